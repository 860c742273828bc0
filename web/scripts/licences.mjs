/** Writes dist/licences-of-the-pages.txt: the licences of everything that the built pages are made of. */
import { existsSync, readdirSync, readFileSync, writeFileSync } from "node:fs";

const { packages } = JSON.parse(readFileSync("package-lock.json", "utf8"));
const parts = Object.entries(packages)
  .filter(([path, one]) => path.startsWith("node_modules/") && !one.dev && !one.optional && existsSync(path))
  .map(([path, one]) => {
    const name = path.replace(/^.*node_modules\//, "");
    const texts = readdirSync(path)
      .filter((file) => /^(licen[cs]e|copying|notice)/i.test(file))
      .map((file) => readFileSync(`${path}/${file}`, "utf8").trim());
    const { license } = JSON.parse(readFileSync(`${path}/package.json`, "utf8"));
    return `${name} ${one.version}: ${license ?? one.license ?? "see its text"}\n\n${texts.join("\n\n")}`.trim();
  });
if (parts.length === 0) throw new Error("no packages were found: run npm ci first");
writeFileSync("dist/licences-of-the-pages.txt", `${parts.join(`\n\n${"-".repeat(80)}\n\n`)}\n`);
