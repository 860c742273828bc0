import { describe, expect, it } from "vitest";
import type { Schemas } from "../src/api/client";
import { leftOver, sensitivities } from "../src/prove/rejection";

const rejected = (name: string, sensitivity: number[], refusal = "") =>
  ({ name, sensitivity, refusal, helped: 0, made_worse: 0 }) as unknown as Schemas["Rejected"];
const found = (candidates: Schemas["Rejected"][]): Schemas["Rejection"] =>
  ({
    arrived: { omega: [0.01, 0.1, 1], variance_per_decade: [4, 2, 1], deviation: 2, least_deviation: 1 },
    candidates,
    unit: "°C",
    dead_time: 5,
    verdicts: [],
  }) as unknown as Schemas["Rejection"];

describe("disturbance rejection over frequency", () => {
  const both = found([rejected("A", [0.1, 1, 1.5]), rejected("M", [], "none"), rejected("B", [0.5, 0.5, 1])]);

  it("draws what is left as what came in times the square of |S|, without those that have none", () => {
    const [came, a, b, ...more] = leftOver(both);
    expect(more).toEqual([]);
    expect([came?.label, a?.label, b?.label]).toEqual(["came in", "A", "B"]);
    expect(a?.y.map((value) => Number(value?.toFixed(9)))).toEqual([0.04, 2, 2.25]);
    expect(b?.y).toEqual([1, 0.5, 1]);
  });

  it("draws every |S| beside the line of no effect", () => {
    const [one, a, b] = sensitivities(both);
    expect([one?.x, one?.y]).toEqual([
      [0.01, 1],
      [1, 1],
    ]);
    expect([a?.y, b?.label]).toEqual([[0.1, 1, 1.5], "B"]);
  });

  it("tells twelve candidates apart without colour", () => {
    const many = found(Array.from({ length: 12 }, (_, k) => rejected(String(k), [1, 1, 1])));
    const styles = sensitivities(many)
      .slice(1)
      .map((line) => `${line.colour} ${String(line.dash)}`);
    expect(new Set(styles).size).toBe(12);
    const dashes = sensitivities(many).map((line) => String(line.dash));
    expect(dashes.slice(2).filter((dash, k) => dash === dashes[k + 1])).toEqual([]);
  });

  it("draws nothing where nothing came in", () => {
    const none = { ...both, arrived: null };
    expect([leftOver(none), sensitivities({ ...none, candidates: [] })]).toEqual([[], []]);
  });
});
