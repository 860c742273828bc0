import { describe, expect, it } from "vitest";
import type { Schemas, Trial } from "../src/api/client";
import {
  aheadPanels,
  horizonMarks,
  learntOf,
  movesIn,
  movesOf,
  responsePanels,
  stepped,
  type LookAhead,
} from "../src/control/predictive";
import { between } from "../src/lib/strip";

describe("moves as text", () => {
  it("reads what it writes", () => {
    for (const moves of [[1], [1, 1, 2, 4, 8], [1, 1, 1, 1, 5], [2, 2, 1, 1, 1], Array<number>(30).fill(1)])
      expect(movesIn(movesOf(moves))).toEqual(moves);
    expect(movesOf([1, 1, 2, 4, 4, 4, 4])).toBe("1, 1, 2, 4 × 4");
    expect(movesIn("1; 2x3 , 4 * 2")).toEqual([1, 2, 2, 2, 4, 4]);
  });

  it("names what is no number of scans", () => {
    for (const text of ["", "1, two", "0", "1.5", "3 × 0", "2 × 1000", "-1"])
      expect(movesIn(text), text).toContain("is no number of scans");
    expect(movesIn("1, two")).toContain("“two”");
  });
});

const trace = {
  scan: 2,
  columns: [
    { tag: "T.SP", unit: "°C", role: "set_point", values: [50, 50, 55, 55, 55] },
    { tag: "T.PV", unit: "°C", role: "process_variable", values: [50, 50, 50, 52, 54] },
    { tag: "T.OP", unit: "%", role: "output", values: [40, 40, 60, 60, 50] },
  ],
} as unknown as Schemas["Trace"];

const ahead: LookAhead = {
  at: 4,
  interval: 2,
  cvs: [
    {
      tag: "T.PV",
      unit: "°C",
      now: 50,
      believed: true,
      estimated: false,
      expected: [51, 53],
      by_itself: [50, 50],
      wanted: [52, 54],
      limits: [{ side: "high", rank: 1, values: [60, 60], gives_way: 0 }],
      rests_at: 55,
      disturbance: 0,
      disturbance_at: null,
      parameter: null,
    },
  ],
  mvs: [
    {
      tag: "T.OP",
      before: 40,
      available: true,
      follows: true,
      planned: [60, 58],
      low: 10,
      high: 90,
      rests_at: 47,
    },
  ],
  limits: [],
  steps: 0,
  verdict: "",
};

describe("what is seen ahead", () => {
  it("lies behind the scan, with what came under it", () => {
    const [pv, op] = aheadPanels(trace, ahead);
    const byLabel = (label: string) => pv?.curves.find((curve) => curve.label === label);
    expect(pv?.curves[0]?.times).toEqual([0, 2, 4]);
    expect(byLabel("expected")?.times).toEqual([6, 8]);
    expect(byLabel("came")?.values).toEqual([50, 52, 54]);
    expect(byLabel("high limit")?.values).toEqual([60, 60]);
    expect(byLabel("low limit")).toBeUndefined();
    expect(op?.limits).toEqual(between(10, 90));
    // The first planned value stands from this scan on.
    expect(op?.curves.find((curve) => curve.label === "planned")?.times).toEqual([4, 6]);
  });

  it("shows no way to a set point where there is none", () => {
    const bare = { ...ahead, cvs: ahead.cvs.map((cv) => ({ ...cv, wanted: [] })) };
    expect(aheadPanels(trace, bare)[0]?.curves.some((curve) => curve.label === "wanted")).toBe(false);
  });
});

describe("steps from scan to scan", () => {
  const trial = { scenario: { scan: 0.1, duration: 1 } } as unknown as Trial;
  it("keep to scans and to the trial", () => {
    expect(stepped(trial, 0.3, 1)).toBe(0.4);
    expect(stepped(trial, 0.34, 0)).toBe(0.3);
    expect(stepped(trial, 0, -1)).toBe(0);
    expect(stepped(trial, 0.9, 10)).toBe(0.9);
  });
});

describe("both horizons over the responses", () => {
  const over = {
    interval: 2,
    looks_ahead: 40,
    last_move: 16,
    settles_after: 30,
    poles: [{ time_constant: 30, period: null, damping: 1 }],
    cvs: [
      {
        tag: "TIC-1.PV",
        unit: "°C",
        by: [
          { tag: "TIC-1.OP", values: [0, 0.5, 0.8] },
          { tag: "FIC-1.SP", values: [0, -0.1, -0.2] },
        ],
      },
    ],
  };

  it("are drawn where they reach, and can be moved; settling cannot", () => {
    const marks = horizonMarks(over);
    expect(marks.map((mark) => [mark.time, mark.key])).toEqual([
      [30, undefined],
      [16, "last move"],
      [40, "horizon"],
    ]);
    expect(horizonMarks({ ...over, settles_after: null }).length).toBe(2);
  });

  it("begin with the move, and tell MVs apart without colour", () => {
    const [panel] = responsePanels(over);
    expect(panel?.curves.map((curve) => curve.label)).toEqual(["TIC-1.OP", "FIC-1.SP"]);
    expect(panel?.curves[0]?.times).toEqual([0, 2, 4, 6]);
    expect(panel?.curves[0]?.values).toEqual([0, 0, 0.5, 0.8]);
    expect(String(panel?.curves[0]?.dash)).not.toBe(String(panel?.curves[1]?.dash));
  });
});

describe("what is learnt of an MV", () => {
  const mv = (learnt: Schemas["LearntGain"] | null) => ({ ...ahead.mvs[0]!, learnt }) as Schemas["AheadOfMv"];

  it("is told with its band, beside what is planned with", () => {
    const known = { factor: 1.324, standard_error: 0.0204, planned_with: 1.3 };
    expect(learntOf(mv(known))).toBe("acts × 1.32 ± 0.04 (× 1.3)");
  });

  it("is nothing where nothing learns, or as long as nothing is told", () => {
    expect(learntOf(mv(null))).toBe("–");
    expect(learntOf(mv({ factor: null, standard_error: null, planned_with: 1 }))).toBe("nothing told yet");
  });
});
