/** The API document, held against the OpenAPI specification by a validator that is not ours. */
import { readFileSync } from "node:fs";
import { Validator } from "@seriousme/openapi-schema-validator";
import { expect, it } from "vitest";

interface Operation {
  operationId: string;
  responses: Record<string, { description: string; content?: Record<string, unknown> }>;
  requestBody?: { content: Record<string, unknown> };
}

const text = readFileSync(new URL("../../docs/openapi.json", import.meta.url), "utf8");
const document = JSON.parse(text) as { openapi: string; paths: Record<string, Record<string, Operation>> };

it("is a valid OpenAPI 3.1 document", async () => {
  const validator = new Validator();
  const { valid, errors } = await validator.validate(text);
  expect(errors ?? []).toEqual([]);
  expect(valid).toBe(true);
  expect(validator.version).toBe("3.1");
});

it("describes every answer, and problems by their own media type", () => {
  const operations = Object.entries(document.paths).flatMap(([path, all]) =>
    Object.entries(all).map(([verb, operation]) => ({ name: `${verb} ${path}`, ...operation })),
  );
  expect(operations.length).toBeGreaterThan(80);
  for (const { name, responses, requestBody } of operations) {
    for (const [status, answer] of Object.entries(responses)) {
      expect(answer.description, `${name} ${status}`).not.toBe("");
      const media = Object.keys(answer.content ?? {});
      if (Number(status) >= 400) expect(media, `${name} ${status}`).toEqual(["application/problem+json"]);
    }
    expect(Object.keys(responses), name).toEqual(expect.arrayContaining(["403", "500", "503"]));
    if (requestBody?.content["application/json"])
      expect(Object.keys(responses), name).toEqual(expect.arrayContaining(["400", "413", "415", "422"]));
  }
});
