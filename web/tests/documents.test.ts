import fc from "fast-check";
import { describe, expect, it } from "vitest";
import type { TrialRow } from "../src/api/client";
import { against, metricsFor } from "../src/lib/comparison";
import { changedPaths } from "../src/lib/differences";
import { eventOf, lastName } from "../src/lib/refused";
import { inWords, isProcess, setStructures, shortName } from "../src/lib/structures";

describe("what changed between two documents", () => {
  it("is told by its paths", () => {
    const before = { gain: 1, events: [{ at: 10 }, { at: 20 }], limits: null };
    expect(changedPaths(before, before)).toEqual([]);
    expect(changedPaths(before, { ...before, gain: 2 })).toEqual(["/gain"]);
    expect(changedPaths(before, { ...before, events: [{ at: 10 }, { at: 21 }] })).toEqual(["/events/1/at"]);
    expect(changedPaths(before, { ...before, limits: { low: 0 } })).toEqual(["/limits"]);
    expect(changedPaths([1], { 0: 1 })).toEqual([""]);
  });

  it("is nothing for a copy, and the same forth and back", () => {
    fc.assert(
      fc.property(fc.jsonValue(), fc.jsonValue(), (a, b) => {
        expect(changedPaths(a, structuredClone(a))).toEqual([]);
        expect(changedPaths(a, b).sort()).toEqual(changedPaths(b, a).sort());
        expect(changedPaths(a, b).length === 0).toBe(JSON.stringify(sorted(a)) === JSON.stringify(sorted(b)));
      }),
    );
  });
});

/** With the keys in one order, and without the minus of a zero. */
function sorted(value: unknown): unknown {
  if (Object.is(value, -0)) return "-0";
  if (Array.isArray(value)) return value.map(sorted);
  if (typeof value !== "object" || value === null) return value;
  return Object.fromEntries(
    Object.entries(value)
      .map(([key, part]) => [key, sorted(part)] as const)
      .sort(([a], [b]) => (a < b ? -1 : 1)),
  );
}

it("a refusal finds its entry by the end of its path", () => {
  expect(lastName("scenario.events[3].at")).toBe("at");
  expect(lastName("/candidate/controller/gain")).toBe("gain");
  expect(lastName("process.rates[2]")).toBe("rates");
  expect([
    eventOf("scenario.events[3].at"),
    eventOf("scenario.events.12.by"),
    eventOf("scenario.scan"),
  ]).toEqual([3, 12, null]);
});

it("structures are called by their kind and orders, as the core lists them", () => {
  // Before the list has come, by their kind alone.
  expect(shortName({ kind: "box_jenkins", nb: 2 } as never)).toBe("box jenkins");
  const order = (name: string) => ({ name, title: name, value: 1, low: 0, high: 30 });
  const offer = (kind: string, short: string, orders: string[]) =>
    ({
      structure: { kind },
      title: short,
      short,
      is_process: !orders.length,
      orders: orders.map(order),
      parameters: [],
    }) as never;
  setStructures([
    offer("fopdt", "FOPDT", []),
    offer("integrating_lag", "integr. + lag", []),
    offer("arx", "ARX", ["na", "nb", "nk"]),
  ]);
  expect(shortName({ kind: "arx", na: 2, nb: 2, nk: 18 } as never)).toBe("ARX 2,2,18");
  expect(shortName({ kind: "fopdt" } as never)).toBe("FOPDT");
  expect([isProcess("integrating_lag"), isProcess("arx")]).toEqual([true, false]);
  expect(inWords("time_constant")).toBe("time constant");
});

describe("against the pinned trial", () => {
  const metric = (key: string) => metricsFor("°C").find((known) => known.key === key)!;
  /** A trial with this load IAE and maximum sensitivity, on a plant of this gain, with a load at this time. */
  const trial = (iae: number | null, { gain = 1, at = 10, ms = 1.6 } = {}) =>
    ({
      assessment: {
        metrics: { loads: iae === null ? null : { integral_absolute_error: iae } },
        margins: { max_sensitivity: ms },
      },
      trial: { plant: { gain }, scenario: { events: [{ at }] } },
    }) as unknown as TrialRow;

  it("less is better, and within half a per cent nothing is said", () => {
    const told = (value: number | null, pinned: number | null) =>
      against(metric("iae"), trial(value), trial(pinned));
    expect(told(90, 100)).toEqual({ text: "▼10", better: true });
    expect(told(110, 100)).toEqual({ text: "▲10", better: false });
    expect(told(100.4, 100)).toBeNull();
    expect(told(null, 100)).toBeNull();
    expect(told(100, null)).toBeNull();
  });

  it("nothing is said across plants, and of a course across scenarios", () => {
    const pinned = trial(100, { ms: 1.6 });
    expect(against(metric("iae"), trial(90, { gain: 2 }), pinned)).toBeNull();
    expect(against(metric("iae"), trial(90, { at: 20 }), pinned)).toBeNull();
    expect(against(metric("ms"), trial(90, { ms: 1.4, gain: 2 }), pinned)).toBeNull();
    // The sensitivity is the loop's, whatever happens to it.
    expect(against(metric("ms"), trial(90, { ms: 1.4, at: 20 }), pinned)?.better).toBe(true);
  });
});
