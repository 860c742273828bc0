/** Writes src/api/ranges.ts: the ranges of numbers that stand in docs/openapi.json, by document and field. */
import { readFileSync, writeFileSync } from "node:fs";

const { components } = JSON.parse(readFileSync("../docs/openapi.json", "utf8"));
const ranges = {};

function collect(name, schema) {
  for (const part of [schema, ...(schema.allOf ?? [])]) {
    const kind = part.properties?.kind?.enum?.[0];
    for (const [field, { minimum, exclusiveMinimum, maximum }] of Object.entries(part.properties ?? {})) {
      if (minimum === undefined && exclusiveMinimum === undefined && maximum === undefined) continue;
      const range = { min: exclusiveMinimum ?? minimum, max: maximum };
      if (exclusiveMinimum !== undefined) range.exclusive = true;
      const of = kind && schema !== components.schemas[name] ? `${name} ${kind}` : name;
      (ranges[of] ??= {})[field] = JSON.parse(JSON.stringify(range));
    }
  }
}

for (const [name, schema] of Object.entries(components.schemas)) {
  collect(name, schema);
  for (const variant of schema.oneOf ?? []) collect(name, variant);
}

const text = `/** Made out of docs/openapi.json by \`npm run client\`: what a number of a document may be. */
export const RANGES = ${JSON.stringify(ranges)} as const;
`;
writeFileSync("src/api/ranges.ts", text);
