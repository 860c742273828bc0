/** Events, sweeps, coefficients: what a person sets about a trial, in words and entries. */
import fc from "fast-check";
import { describe, expect, it, vi } from "vitest";
import type { Trial } from "../src/api/client";

vi.mock("../src/api/client", () => ({ api: {}, answered: () => Promise.reject(new Error("no server")) }));

const events = await import("../src/control/events");
const { mostValues, rangeAbout, sweptMetrics } = await import("../src/control/sweep");
const { coefficientsText, polynomialText, readCoefficients } = await import("../src/control/polynomials");
const { mainPid } = await import("../src/control/controllers");
const { eventOf, lastName } = await import("../src/lib/refused");
const { pointsText, readPoints } = await import("../src/lib/points");
const { rangeIn, rangeOf, whenGiven } = await import("../src/lib/field");
type Event = import("../src/control/events").Event;

const description = {
  inputs: [{ name: "feed_flow", unit: "m³/h" }],
  parameters: [{ name: "heat_transfer", unit: "W/K" }],
} as never;
const trial = {
  plant: { pv: { tag: "TIC-1.PV", span: { low: 0, high: 100, unit: "°C" } } },
  candidate: { controller: { kind: "pid" } },
  scenario: { duration: 600, scan: 1, events: [] },
} as unknown as Trial;

/** One event of each kind. */
const every: Event[] = [
  { kind: "set_point_step", at: 10, by: 5 },
  { kind: "set_point_ramp", at: 10, by: -5, over: 60 },
  {
    kind: "set_point_profile",
    at: 10,
    points: [
      [0, 1],
      [60, 2],
    ],
  },
  { kind: "load_step", at: 10, by: -8 },
  { kind: "load_ramp", at: 10, by: 3, over: 120, input: "feed_flow" },
  { kind: "load_pulse", at: 10, by: 3, lasts: 20 },
  { kind: "load_sine", at: 10, by: 3, period: 90, lasts: null },
  { kind: "load_walk", at: 10, by: 3, seed: 1, lasts: null },
  { kind: "load_channel", at: 10, tag: "FI-7.PV", interval: 1, values: [1, 2] },
  { kind: "parameter_change", at: 10, parameter: "heat_transfer", to: 250, over: 0 },
  { kind: "valve_sticks", at: 10, lasts: 30 },
  { kind: "valve_fails", at: 10, lasts: 30 },
  { kind: "sensor_fails", at: 10, lasts: 30, how: "frozen" },
  { kind: "to_manual", at: 10 },
  { kind: "output_step", at: 10, by: 4 },
  { kind: "to_automatic", at: 10 },
  { kind: "limit_moves", at: 10, cv: "TIC-1.PV", side: "low", rank: 2, to: 40, over: 60 },
] as unknown as Event[];

describe("events", () => {
  it("of every kind can be chosen, once, under a name", () => {
    const kinds = events.KINDS.flatMap((group) => group.kinds.map(([kind]) => kind));
    expect(new Set(kinds)).toEqual(new Set(every.map((event) => event.kind)));
    expect(kinds).toHaveLength(new Set(kinds).size);
    for (const { kind } of every) expect(events.titleOf(kind)).not.toContain("_");
  });

  it("say what they do, with sign and unit", () => {
    const words = every.map((event) => events.describe(event, "°C", description, () => "°C"));
    expect(words).toEqual(
      [
        "SP +5 °C",
        "SP −5 °C in 60\u00a0s",
        "SP profile, 2 points",
        "load −8 % OP",
        "feed flow +3 m³/h in 120\u00a0s",
        "load +3 % OP for 20\u00a0s",
        "load ±3 % OP every 90\u00a0s",
        "load walks, 3 % OP/h",
        "load as FI-7.PV",
        "heat transfer to 250 W/K",
        "valve sticks for 30\u00a0s",
        "valve without supply for 30\u00a0s",
        "sensor frozen for 30\u00a0s",
        "manual",
        "OP +4 %",
        "automatic",
        "TIC-1.PV ≥ 40 °C in 60\u00a0s, rank 2",
      ].map((text) => text.replaceAll("\u00a0", words[1]!.includes("\u00a0") ? "\u00a0" : " ")),
    );
  });

  it("give an entry for each of their numbers, which puts it where it belongs and nowhere else", () => {
    for (const event of every) {
      const before = JSON.stringify(event);
      const fields = events.fieldsOf(event, 0, trial, description, (change) => change(event));
      expect(fields[0]!.label).toBe("At");
      expect(fields[0]!.max).toBe(600);
      const own = Object.entries(event).filter(
        ([key, value]) => typeof value === "number" && !["seed", "interval", "rank"].includes(key),
      );
      for (const [key, value] of own) {
        const field = fields.find((known) => known.key === `0 ${key}`);
        expect(field?.value, `${event.kind}.${key}`).toBe(value);
        field!.set(7.5);
        expect((event as unknown as Record<string, unknown>)[key]).toBe(7.5);
        field!.set(value as number);
      }
      expect(JSON.stringify(event)).toBe(before);
    }
  });

  it("an entry left empty changes nothing, but where empty means something", () => {
    const sine = { kind: "load_sine", at: 10, by: 3, period: 90, lasts: 40 } as unknown as Event;
    const fields = events.fieldsOf(sine, 2, trial, description, (change) => change(sine));
    fields.find((field) => field.key === "2 by")!.set(null);
    expect(sine).toMatchObject({ by: 3 });
    const lasts = fields.find((field) => field.key === "2 lasts")!;
    expect(lasts.whenEmpty).toBe("to the end");
    lasts.set(null);
    expect(sine).toMatchObject({ lasts: null });
  });

  it("tell loads, units and colours", () => {
    expect(every.filter(events.isLoad).map((event) => event.kind)).toEqual([
      "load_step",
      "load_ramp",
      "load_pulse",
      "load_sine",
      "load_walk",
      "load_channel",
    ]);
    expect(events.loadUnit(every[3]!, description)).toBe("% OP");
    expect(events.loadUnit(every[4]!, description)).toBe("m³/h");
    expect(events.loadUnit(every[4]!, null)).toBe("");
    const colours = new Set(every.map(events.colourOf));
    expect(colours).toEqual(new Set(["--ink", "--dv", "--limit", "--op"]));
    expect(events.choicesOf([{ name: "feed_flow", unit: "" }])).toEqual([
      { value: "feed_flow", title: "feed flow (–)" },
    ]);
  });
});

describe("a sweep", () => {
  const number = fc.integer({ min: -1e7, max: 1e7 }).map((value) => value / 1000);
  const target = fc
    .record({
      value: number,
      low: fc.option(number, { nil: null }),
      high: fc.option(number, { nil: null }),
      whole: fc.boolean(),
    })
    .map(({ value, low, high, whole }) => {
      const [least, most] =
        low !== null && high !== null ? [Math.min(low, high), Math.max(low, high) + 10] : [low, high];
      const within = Math.min(Math.max(value, least ?? -Infinity), most ?? Infinity);
      const of = (bound: number | null) => (bound === null ? null : whole ? Math.round(bound) : bound);
      return {
        pointer: "/candidate/controller/gain",
        group: "candidate",
        title: "gain",
        unit: "",
        value: whole ? Math.max(1, Math.round(Math.abs(within))) : within,
        low: whole ? 1 : of(least),
        high: whole ? 1e6 : of(most),
        whole,
      } as never;
    });

  it("begins with a range that can be, about the value", () => {
    fc.assert(
      fc.property(target, fc.integer({ min: 2, max: 40 }), (of, count) => {
        const { value, low, high, whole } = of as {
          value: number;
          low: number | null;
          high: number | null;
          whole: boolean;
        };
        const axis = rangeAbout(of, count);
        for (const end of [axis.from, axis.to]) {
          expect(end).toBeGreaterThanOrEqual(low ?? -Infinity);
          expect(end).toBeLessThanOrEqual(high ?? Infinity);
        }
        expect(axis.from).toBeLessThanOrEqual(Math.max(value, 0));
        expect(axis.to).toBeGreaterThanOrEqual(Math.min(value, 0));
        if (axis.by_ratio) expect(axis.from).toBeGreaterThan(0);
        if (whole) {
          expect(Number.isInteger(axis.from) && Number.isInteger(axis.to)).toBe(true);
          expect(axis.count).toBeLessThanOrEqual(mostValues(of, axis));
        }
      }),
    );
  });

  it("of a whole number has no more values than there are", () => {
    const axis = { pointer: "", from: 2, to: 6, count: 9, by_ratio: false };
    expect(mostValues({ whole: true } as never, axis)).toBe(5);
    expect(mostValues(undefined, axis)).toBe(1000);
  });

  it("is read by the figures of the loop, and by those of a signal that is asked for", () => {
    const loop = sweptMetrics("°C", null);
    const both = sweptMetrics("°C", { tag: "feed_flow", unit: "m³/h" });
    expect(new Set(both.map((metric) => metric.key)).size).toBe(both.length);
    expect(both.slice(0, loop.length).map((metric) => metric.key)).toEqual(loop.map((metric) => metric.key));
    const mean = both.find((metric) => metric.key === "signal-mean")!;
    expect([mean.title, mean.unit]).toEqual(["feed flow: mean", "m³/h"]);
    expect(mean.read({ assessment: {}, answer: { mean: 4 } } as never)).toBe(4);
    expect(mean.read({ assessment: {} } as never)).toBeNull();
  });
});

describe("coefficients", () => {
  it("that are written are read back", () => {
    fc.assert(
      fc.property(fc.array(fc.double({ min: -1e6, max: 1e6, noNaN: true }), { maxLength: 8 }), (values) => {
        const again = readCoefficients(coefficientsText(values));
        expect(again.wrong).toBeNull();
        expect(again.values.map((value) => value + 0)).toEqual(values.map((value) => value + 0));
      }),
    );
  });

  it("name the word that is none", () => {
    expect(readCoefficients("0.5; 3 1")).toEqual({ values: [0.5, 3, 1], wrong: null });
    expect(readCoefficients("1 two 3")).toEqual({ values: [], wrong: "two" });
    expect(readCoefficients("  ")).toEqual({ values: [], wrong: null });
  });

  it("read as a polynomial of s", () => {
    expect([[2, 1], [1, 0, -3], [0], [-1, 0], [0, 0, 5]].map(polynomialText)).toEqual([
      "2 s + 1",
      "s² − 3",
      "0",
      "−1 s",
      "5",
    ]);
  });

  it("of points are read a line each, or not at all", () => {
    const points = fc.array(
      fc.tuple(
        fc.double({ min: -1e6, max: 1e6, noNaN: true }),
        fc.double({ min: -1e6, max: 1e6, noNaN: true }),
      ),
    );
    fc.assert(
      fc.property(points, (list) => {
        const plus = (pairs: [number, number][]) => pairs.map(([a, b]) => [a + 0, b + 0]);
        expect(plus(readPoints(pointsText(list))!)).toEqual(plus(list));
      }),
    );
    expect(readPoints("0: 1; 60: 2")).toEqual([
      [0, 1],
      [60, 2],
    ]);
    for (const text of ["1", "1: 2: 3", "a: 1", "0: 1\n5"]) expect(readPoints(text), text).toBeNull();
  });
});

it("what is refused is told at the entry that it is about", () => {
  expect(
    ["scenario.events[3].at", "/plant/pv/span/low", "gain", "events[0]"].map((path) => lastName(path)),
  ).toEqual(["at", "low", "gain", "events"]);
  expect([eventOf("scenario.events[3].at"), eventOf("/scenario/events/12/by"), eventOf("plant.pv")]).toEqual([
    3,
    12,
    null,
  ]);
});

it("entries know the range that the core allows", () => {
  expect(rangeOf("PidSettings", "integral_time")).toBeDefined();
  expect(rangeIn("NoSuchDocument", "x")).toEqual({});
  const taken: number[] = [];
  const take = whenGiven((value) => taken.push(value));
  [1, null, 2].forEach(take);
  expect(taken).toEqual([1, 2]);
});

it("the PID settings that a controller works with are found in every kind that has them", () => {
  const pid = { kind: "pid", gain: 1 } as never;
  expect(mainPid(pid)).toBe(pid);
  expect(mainPid({ kind: "smith", pid } as never)).toBe(pid);
  expect(mainPid({ kind: "cascade", outer: pid } as never)).toBe(pid);
  for (const kind of ["manual", "relay", "self_tuning", "model_reference"])
    expect(mainPid({ kind } as never)).toBeNull();
});
