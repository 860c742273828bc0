import { describe, expect, it } from "vitest";
import type { TrialRow } from "../src/api/client";
import {
  best,
  contenders,
  firstRows,
  freeName,
  howFar,
  percent,
  said,
  saidWithUnit,
  sizeText,
  takenIn,
  trialOf,
  trialOfDraft,
  type Disturbance,
  type Proof,
  type ProofResult,
} from "../src/prove/proof";

const share = (count: number, of: number) => ({ passes: count, of, interval: [0.1, 0.9], to_halve: 5 });
describe("in words", () => {
  it("a share is whole only where none fails", () => {
    expect(percent(share(200, 200))).toBe("100 %");
    expect(percent(share(4999, 5000))).toBe("99.9 %");
    expect(percent(share(71, 200))).toBe("35.5 %");
    expect(percent(share(0, 200))).toBe("0 %");
  });

  it("how far a proof is, and who works on it", () => {
    const state = (rest: object) =>
      ({ pieces: 0, pieces_done: 0, share: 0, workers: 0, ...rest }) as Parameters<typeof howFar>[0];
    expect(howFar(state({}))).toBe("waits for a worker");
    expect(howFar(state({ pieces: 1 }))).toBe("0 %, 0 of 1 piece by 1 worker");
    const far = { pieces: 50, pieces_done: 21, share: 0.418, workers: 2 };
    expect(howFar(state(far))).toBe("42 %, 21 of 50 pieces by 2 workers");
  });

  it("what is never reached is said so", () => {
    expect(said(null, { unit: "s", figure: { kind: "recovery_time", band: 1 } })).toBe("never");
    expect(said(undefined, { unit: "°C", figure: { kind: "largest_deviation" } })).toBe("no end");
    expect(said(900, { unit: "s", figure: { kind: "recovery_time", band: 1 } })).toBe("15 min");
    expect(saidWithUnit(9.4, { unit: "°C", figure: { kind: "largest_deviation" } })).toBe("9.4 °C");
    expect(saidWithUnit(3, { unit: "", figure: { kind: "output_reversals" } })).toBe("3");
  });
});

describe("the best candidate", () => {
  const result = (rest: Partial<ProofResult>) =>
    ({
      candidates: ["A", "B", "C"],
      limited: 4,
      kept: [1, 4, 2],
      shares: [null, null, null],
      ...rest,
    }) as ProofResult;

  it("is told with how many disturbances it bears, or with its share", () => {
    expect(best(result({ order: [1, 2, 0] }))).toEqual({ name: "B", text: "4 of 4" });
    expect(best(result({ order: [2, 1, 0] }))).toEqual({ name: "C", text: "2 of 4" });
    const shares = [share(120, 200), share(196, 200), share(3, 200)];
    expect(best(result({ order: [1, 0, 2], shares }))).toEqual({ name: "B", text: "98 %" });
  });

  it("is none where nothing has a limit, and where there is no candidate", () => {
    expect(best(result({ order: [1, 2, 0], limited: 0, kept: [0, 0, 0] }))).toBeNull();
    expect(best(result({ order: [] }))).toBeNull();
  });
});

const row = (number: number, gain: number, rest: Record<string, unknown> = {}): TrialRow =>
  ({
    id: `id ${number}`,
    number,
    label: `gain ${gain}`,
    pinned: false,
    trial: {
      plant: { pv: { tag: "L.PV", span: { low: 0, high: 100, unit: "%" } } },
      candidate: { controller: { kind: "pid", gain } },
      scenario: { duration: 300, scan: 1, events: [{ kind: "load_step", at: 5, by: 3 }] },
    },
    ...rest,
  }) as unknown as TrialRow;

describe("a draft", () => {
  it("begins with the trial that runs and the newest others, each once", () => {
    const rows = [row(6, 3), row(5, 2), row(4, 2), row(3, 1), row(2, 4), row(1, 5)];
    const base = rows[3] as TrialRow;
    expect(firstRows(rows, base).map((one) => one.number)).toEqual([3, 6, 5, 2]);
    const manual = row(7, 9);
    manual.trial.candidate.controller = { kind: "manual" };
    expect(firstRows([manual, ...rows], base).map((one) => one.number)).toEqual([3, 6, 5, 2]);
  });

  it("takes what was found in the place of its namesakes, and behind the others", () => {
    const one = (name: string, duration: number) => ({ name, duration }) as unknown as Disturbance;
    const set = { name: "s", note: "", disturbances: [one("step", 1), one("load as in May", 2)] };
    takenIn(set, [one("load as in May", 3), one("load +4 %", 4)]);
    expect(set.disturbances.map((own) => [own.name, own.duration])).toEqual([
      ["step", 1],
      ["load as in May", 3],
      ["load +4 %", 4],
    ]);
    takenIn(set, []);
    expect(set.disturbances).toHaveLength(3);
  });

  it("is tried by its first candidate at that one's scan, and not without any", () => {
    const [first, second] = [row(1, 2), row(2, 3)];
    const draft = {
      plant: first.trial.plant,
      scan: 0.5,
      candidates: contenders([first, second], 0.5),
      seed: 4,
    } as unknown as Proof;
    const trial = trialOfDraft(draft);
    expect(trial?.candidate).toEqual(first.trial.candidate);
    expect(trial?.scenario).toEqual({ duration: 100, scan: 1, seed: 4, events: [] });
    expect(trialOfDraft({ ...draft, candidates: [] })).toBeNull();
  });

  it("knows the trial of a candidate as long as that is as it was", () => {
    const one = row(2, 4);
    const [own] = contenders([one], 1);
    expect(own).toEqual({ name: "B", candidate: one.trial.candidate });
    expect(contenders([one], 2)[0]?.scan).toBe(1);
    expect(own && trialOf([row(1, 4), one], own)?.id).toBe("id 2");
    expect(own && trialOf([row(2, 4.1)], own)).toBeNull();
  });

  it("gives what is added a name that nothing else has", () => {
    expect(freeName("a", ["a", "a (2)"])).toBe("a (3)");
    expect(freeName("b", ["a"])).toBe("b");
  });

  it("says how large it is", () => {
    const proof = {
      candidates: [{}, {}],
      set: { disturbances: [{}] },
      uncertainty: { kind: "ranges", plants: 200, ranges: [] },
    } as unknown as Proof;
    expect(sizeText(proof)).toBe("1 disturbance × 2 candidates × 200 plants");
    expect(sizeText({ ...proof, uncertainty: { kind: "none" } })).toContain("the plant as it is");
  });
});
