import fc from "fast-check";
import { describe, expect, it } from "vitest";
import type { Schemas, Trial } from "../src/api/client";
import { describe as inWords, fieldsOf, type Event } from "../src/control/events";
import { allLimits, limitsOfCv, limitsOfMv, moveLimit, predictiveOf, spanOf } from "../src/control/limits";
import { between, limitAt, piecesOf } from "../src/lib/strip";

const cv = {
  tag: "T.PV",
  output: "t",
  response_time: 10,
  low: { value: 20, rank: 1 },
  high: { value: 80, rank: 1 },
  bands: [{ high: { value: 70, rank: 2 } }, { low: { value: 40, rank: 3 }, high: { value: 60, rank: 3 } }],
} as Schemas["ControlledVariable"];

const estimated = {
  tag: "jacket",
  output: "jacket",
  response_time: 10,
  estimated: { span: { low: 0, high: 400, unit: "K" }, at_start: 300 },
} as Schemas["ControlledVariable"];

function trial(): Trial {
  return structuredClone({
    plant: {
      pv: { tag: "T.PV", span: { low: 0, high: 100, unit: "°C" } },
      op: { tag: "T.OP", span: { low: 0, high: 100, unit: "%" } },
      further_measured: [{ tag: "F.PV", output: "f", span: { low: 0, high: 9, unit: "t/h" } }],
    },
    candidate: {
      controller: {
        kind: "predictive",
        cvs: [cv, estimated],
        mvs: [{ tag: "T.OP", input: "u", usual_move: 1, low: 10, high: 90 }],
      },
    },
    scenario: { duration: 100, scan: 10, events: [] },
  }) as unknown as Trial;
}

const trace = {
  scan: 10,
  columns: [
    { tag: "T.PV", unit: "°C", role: "process_variable", values: [50, 50, 50] },
    { tag: "T.PV high limit, rank 2", unit: "°C", role: "limit", of: "T.PV", values: [70, 70, 65] },
  ],
} as unknown as Schemas["Trace"];

describe("the limits of a CV", () => {
  it("are all told, with where they stand", () => {
    expect(allLimits(cv).map(({ place, side, limit }) => [place, side, limit.value, limit.rank])).toEqual([
      ["low", "low", 20, 1],
      ["high", "high", 80, 1],
      ["bands[0].high", "high", 70, 2],
      ["bands[1].low", "low", 40, 3],
      ["bands[1].high", "high", 60, 3],
    ]);
    expect(allLimits(estimated)).toEqual([]);
  });

  it("stand on its panel: those that are moved as they move, the others to be drawn, and all told apart", () => {
    const own = trial();
    const [first] = predictiveOf(own)!.cvs;
    const limits = limitsOfCv(own, trace, first!, true);
    expect(limits.map((one) => one.label)).toEqual([
      "≥ rank 1",
      "≤ rank 1",
      "≤ rank 2",
      "≥ rank 3",
      "≤ rank 3",
    ]);
    expect(limits[2]).toMatchObject({ values: [70, 70, 65], times: [0, 10, 20] });
    expect(limits[2]!.key).toBeUndefined();
    expect(limits[4]).toMatchObject({ values: [60], key: "limit cvs[0].bands[1].high" });
    expect(limitsOfCv(own, trace, first!, false).every((one) => one.key === undefined)).toBe(true);
    expect(limitsOfCv(own, trace, null, true)).toEqual([]);
  });

  it("have the unit of their signal, also of one that nothing measures", () => {
    expect([
      spanOf(trial(), "T.PV").unit,
      spanOf(trial(), "F.PV").unit,
      spanOf(trial(), "jacket").unit,
    ]).toEqual(["°C", "t/h", "K"]);
  });

  it("are drawn to round values, and do not pass those on their other side", () => {
    const moved = (place: string, to: number) => {
      const own = trial();
      moveLimit(own, place, to);
      return predictiveOf(own)!;
    };
    expect(moved("cvs[0].bands[1].high", 61.2345).cvs[0]!.bands![1]!.high).toEqual({ value: 61.2, rank: 3 });
    expect(moved("cvs[0].bands[1].high", 12).cvs[0]!.bands![1]!.high!.value).toBe(40);
    expect(moved("cvs[0].low", 95).cvs[0]!.low!.value).toBe(80);
    expect(moved("mvs[0].high", 300).mvs[0]!.high).toBe(100);
    expect(moved("mvs[0].high", 3).mvs[0]!.high).toBe(11);
    expect(moved("mvs[0].low", -3).mvs[0]!.low).toBe(0);
    // What there is not stays as it was.
    for (const place of [
      "cvs[7].high",
      "cvs[0].bands[5].low",
      "cvs[0].bands[0].low",
      "mvs[3].low",
      "horizon",
    ])
      expect(moved(place, 5)).toEqual(predictiveOf(trial()));
  });

  it("of an MV lie at its ends", () => {
    const [mv] = predictiveOf(trial())!.mvs;
    expect(limitsOfMv(trial(), mv!, false)).toEqual(between(10, 90));
  });
});

describe("a limit that is moved", () => {
  const event = {
    kind: "limit_moves",
    at: 20,
    cv: "jacket",
    side: "high",
    rank: 2,
    to: 350,
    over: 60,
  } as Event;

  it("is told in words, with the unit of its CV", () => {
    expect(inWords(event, "°C", null, (tag) => spanOf(trial(), tag).unit)).toMatch(
      /^jacket ≤ 350 K in .*, rank 2$/,
    );
    const fields = fieldsOf(event, 0, trial(), null, () => undefined);
    expect(fields.find((field) => field.key === "0 to")).toMatchObject({ unit: "K", value: 350 });
  });

  it("is drawn in level pieces that cover its time without a gap, each at the value that holds there", () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 0, max: 3 }), { minLength: 2, maxLength: 40 }), (values) => {
        const times = values.map((_, k) => 5 * k);
        const limit = { side: "high" as const, values, times };
        const pieces = piecesOf(limit);
        expect(pieces[0]!.from).toBe(0);
        expect(pieces.at(-1)!.to).toBe(times.at(-1));
        pieces.slice(1).forEach((piece, k) => expect(piece.from).toBe(pieces[k]!.to));
        values.forEach((value, k) => expect(limitAt(limit, 5 * k + 2)).toBe(value));
        for (const { from, value } of pieces) expect(limitAt(limit, from)).toBe(value);
      }),
    );
    expect(piecesOf({ side: "low", values: [3] })).toEqual([{ from: -Infinity, to: Infinity, value: 3 }]);
    expect(limitAt({ side: "low", values: [3] }, 1e9)).toBe(3);
  });
});
