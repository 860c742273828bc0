import { describe, expect, it } from "vitest";
import type { Trial, TrialRow } from "../src/api/client";
import { controllersOf, evidenceOf, firstTrial, typed, withSettings } from "../src/handover/handover";
import { withChoice } from "../src/control/useNotation";
import type { ProofRow } from "../src/prove/proof";

const trial = (controller: Record<string, unknown>, further: Record<string, unknown>[] = []): Trial =>
  ({
    plant: { pv: { tag: "TIC-1.PV", span: { low: 0, high: 100, unit: "°C" } } },
    candidate: { controller, further },
  }) as unknown as Trial;
const row = (number: number, rest: Record<string, unknown> = {}): TrialRow =>
  ({
    id: `id ${number}`,
    number,
    pinned: false,
    trial: trial({ kind: "pid", gain: number, integral_time: 90 }),
    ...rest,
  }) as unknown as TrialRow;

describe("what is handed over", () => {
  it("is every controller, with the settings of those that are PID", () => {
    const inner = { name: "TIC-2", measures: "TIC-2.PV", controller: { kind: "pid", gain: 2 } };
    const seat = { name: "TIC-3", measures: "TIC-3.PV", controller: { kind: "seat" } };
    const found = controllersOf(trial({ kind: "pid", gain: 1.2, integral_time: 90 }, [inner, seat]));
    expect(found.map((one) => one.name)).toEqual(["TIC-1", "TIC-2", "TIC-3"]);
    expect(found[0]?.pid).toEqual({ gain: 1.2, integral_time: 90 });
    expect(found[2]?.pid).toBeNull();
  });

  it("is typed to so many digits, and goes back into the trial", () => {
    expect([typed(1.23456, 3), typed(90.04, 3), typed(0.00123456, 4)]).toEqual([1.23, 90, 0.001235]);
    const before = trial({ kind: "pid", gain: 1 }, [{ name: "TIC-2", controller: { kind: "pid", gain: 2 } }]);
    const first = withSettings(before, "", { gain: 3, integral_time: null });
    expect(first.candidate.controller).toMatchObject({ kind: "pid", gain: 3 });
    const inner = withSettings(before, "TIC-2", { gain: 4, integral_time: null });
    expect(inner.candidate.further?.[0]?.controller).toMatchObject({ gain: 4 });
    expect(before.candidate.controller).toEqual({ kind: "pid", gain: 1 });
  });
});

describe("the evidence", () => {
  const proof = (names: [string, TrialRow][], order: number[]): ProofRow =>
    ({
      id: "proof",
      number: 1,
      proof: { candidates: names.map(([name, of]) => ({ name, candidate: of.trial.candidate })) },
      result: { order },
    }) as unknown as ProofRow;

  it("is the newest proof in which the candidate was held as it is", () => {
    const [a, b, c] = [row(1), row(2), row(3)];
    const proofs = [
      proof(
        [
          ["A", a],
          ["B", b],
        ],
        [1, 0],
      ),
    ];
    expect(evidenceOf(proofs, b)?.column).toBe(1);
    expect(evidenceOf(proofs, c)).toBeNull();
    // Another gain than that which was proven is another candidate.
    expect(evidenceOf(proofs, row(2, { trial: trial({ kind: "pid", gain: 2.1 }) }))).toBeNull();
    expect(firstTrial(proofs, [c, b, a])?.id).toBe("id 2");
    expect(firstTrial([], [c, { ...b, pinned: true }, a])?.id).toBe("id 2");
    expect(firstTrial([], [])).toBeNull();
  });
});

describe("a notation", () => {
  it("has gains only in the parallel form", () => {
    const plain = { form: "ideal", proportional: "band", integral: "repeats", time: "minutes" } as const;
    expect(withChoice(plain, "form", "parallel")).toEqual({
      form: "parallel",
      proportional: "gain",
      integral: "rate",
      time: "minutes",
    });
    expect(withChoice(plain, "time", "seconds")).toEqual({ ...plain, time: "seconds" });
  });
});
