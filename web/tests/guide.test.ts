/** The guide calls things by the names that stand on the screen. */
import { readFileSync, readdirSync } from "node:fs";
import { join, resolve } from "node:path";
import { describe, expect, it } from "vitest";

const root = resolve(import.meta.dirname, "../..");

function everyFile(directory: string, endings: readonly string[]): string[] {
  return readdirSync(directory, { recursive: true, encoding: "utf8" })
    .filter((path) => endings.some((ending) => path.endsWith(ending)) && !path.endsWith("schema.d.ts"))
    .map((path) => readFileSync(join(directory, path), "utf8"));
}

const oneLine = (text: string): string => text.replace(/\s+/g, " ").toLowerCase();

/** Titles of periodicals and books, which are set in the same way. */
const CITED =
  /^(Econometrica|IEEE|Ind\. Eng|Int\. J|J\. Process|Process Dynamics|System Identification|Advanced PID|Trans\.|IFAC|Automatica|J\. Am|Model Predictive Control)/;
/** Words that the core or the server puts on the screen. */
const FROM_RUST = [
  "change of parameters",
  "not now",
  "matrix, dead time in every cell",
  "physical, balances with unknown numbers",
  "solver steps",
  "limits at work",
  "limits given up",
];

function emphasised(text: string): string[] {
  const withoutCode = text.replace(/```[\s\S]*?```/g, "").replace(/`[^`]*`/g, "");
  const terms = [...withoutCode.matchAll(/(?<![*\\\w])\*([^*\n\\]+)\*(?![*\w])/g)].map(
    (match) => match[1] ?? "",
  );
  return [...new Set(terms)].filter((term) => !CITED.test(term));
}

describe("the guide", () => {
  const guide = readFileSync(join(root, "docs/guide.md"), "utf8");
  const screen = oneLine(everyFile(join(root, "web/src"), [".vue", ".ts"]).join(" "));
  const rust = oneLine(
    [
      ...everyFile(join(root, "crates/core/src"), [".rs"]),
      ...everyFile(join(root, "crates/server/src"), [".rs"]),
    ].join(" "),
  );
  const terms = emphasised(guide);

  it("names many things", () => {
    expect(terms.length).toBeGreaterThan(40);
  });

  it.each(terms)("“%s” stands on the screen", (term) => {
    const text = oneLine(term).replace(/ …$/, "");
    expect(screen.includes(text) || (FROM_RUST.includes(text) && rust.includes(text))).toBe(true);
  });

  it("links to places that exist", () => {
    const links = [...guide.matchAll(/\]\(([\w./-]+\.md)(?:#([\w-]+))?\)/g)];
    expect(links.length).toBeGreaterThan(0);
    for (const [, file, place] of links) {
      const text = readFileSync(join(root, "docs", file ?? ""), "utf8");
      const places = [...text.matchAll(/^#+ (.*)$/gm)].map((heading) =>
        (heading[1] ?? "")
          .toLowerCase()
          .replace(/[^\w\s-]/g, "")
          .replaceAll(" ", "-"),
      );
      if (place) {
        expect(places).toContain(place);
      }
    }
  });

  it("lists every key that something listens to", () => {
    const sources = everyFile(join(root, "web/src"), [".vue"]);
    const heard = sources.flatMap((source) =>
      [...source.matchAll(/useKeys\(\{([\s\S]*?)\}\);/g)].flatMap((call) =>
        [...(call[1] ?? "").matchAll(/(?:^|[{,\n])\s*(?:"(.)"|([a-z])): \(/g)].map(
          (key) => key[1] ?? key[2] ?? "",
        ),
      ),
    );
    expect(new Set(heard).size).toBeGreaterThan(10);
    const help = readFileSync(join(root, "web/src/components/KeyHelp.vue"), "utf8");
    const listed = [...help.matchAll(/^\s+\["([^"]+)", /gm)].flatMap((row) => (row[1] ?? "").split(" "));
    const unlisted = heard.map((key) => (key === " " ? "space" : key)).filter((key) => !listed.includes(key));
    expect(unlisted).toEqual([]);
  });
});
