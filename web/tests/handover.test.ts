import { describe, expect, it } from "vitest";
import type { TrialRow } from "../src/api/client";
import { evidenceOf, firstTrial } from "../src/handover/handover";
import { wholeNotation, withChoice } from "../src/control/useNotation";
import type { ProofRow } from "../src/prove/proof";

const row = (number: number): TrialRow => ({ id: `id ${number}`, number }) as unknown as TrialRow;

describe("what is handed over", () => {
  const proof = (number: number) => ({ id: `proof ${number}`, number }) as unknown as ProofRow;
  const known = (rest: Record<string, unknown> = {}) => ({
    handOver: {
      proposed: { id: "id 2", trial: 2 },
      proven: [
        { trial: 2, proof: 7, place: 1 },
        { trial: 1, proof: 3, place: 0 },
      ],
    },
    trials: [row(3), row(2), row(1)],
    proofs: [proof(7)],
    ...rest,
  });

  it("has the proof that the server tells of it, also where that was not fetched", () => {
    expect(evidenceOf(known(), row(2))).toEqual({ number: 7, column: 1, proof: proof(7) });
    expect(evidenceOf(known(), row(1))).toEqual({ number: 3, column: 0, proof: null });
    expect(evidenceOf(known(), row(3))).toBeNull();
  });

  it("begins with what is proposed", () => {
    expect(firstTrial(known())?.id).toBe("id 2");
    expect(firstTrial(known({ trials: [row(3)] }))).toBeNull();
    expect(firstTrial(known({ handOver: { proposed: null, proven: [] } }))).toBeNull();
  });
});

describe("a notation", () => {
  it("has gains only in the parallel form", () => {
    const plain = wholeNotation({ proportional: "band", integral: "repeats", time: "minutes" });
    expect(withChoice(plain, "form", "parallel")).toEqual({
      form: "parallel",
      proportional: "gain",
      integral: "rate",
      time: "minutes",
      gain_over: "percent",
    });
    expect(withChoice(plain, "time", "seconds")).toEqual({ ...plain, time: "seconds" });
  });
});
