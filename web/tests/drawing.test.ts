/** What is drawn: lines of equal value, ticks, ranges, values under the cursor. */
import { describe, expect, it, vi } from "vitest";

vi.mock("../src/lib/theme", () => ({ colour: (name: string) => name }));
const { contours } = await import("../src/lib/contours");
const { extentOf, linearTicks, logTicks, valueTicks } = await import("../src/lib/xy");
const { rangeOf, table, valueAt } = await import("../src/lib/stripData");

/** Numbers that look random and are the same each time. */
function numbers(seed: number): () => number {
  let state = seed;
  return () => {
    state = (state * 1664525 + 1013904223) % 4294967296;
    return state / 4294967296;
  };
}
const steps = (count: number, from: number, to: number) =>
  Array.from({ length: count }, (_, k) => from + ((to - from) * k) / (count - 1));

describe("lines of equal value", () => {
  const x = steps(21, -2, 2);
  const y = steps(25, -3, 3);
  const grid = (f: (x: number, y: number) => number | null) => y.map((b) => x.map((a) => f(a, b)));

  it("of a plane are straight and lie where the plane has the value", () => {
    const lines = contours(
      x,
      y,
      grid((a, b) => 2 * a - b),
      0.7,
    );
    expect(lines).toHaveLength(1);
    for (const [a, b] of lines[0] ?? []) expect(2 * a - b).toBeCloseTo(0.7, 9);
    // From one edge of the grid to another.
    for (const [a, b] of [lines[0]?.[0] ?? [NaN, NaN], lines[0]?.at(-1) ?? [NaN, NaN]] as [number, number][])
      expect(Math.abs(a) === 2 || Math.abs(b) === 3).toBe(true);
  });

  it("of a cone are closed rings about its top", () => {
    const lines = contours(
      x,
      y,
      grid((a, b) => Math.hypot(a, b)),
      1.5,
    );
    expect(lines).toHaveLength(1);
    const ring = lines[0] ?? [];
    expect(ring[0]).toEqual(ring.at(-1));
    for (const [a, b] of ring) expect(Math.abs(Math.hypot(a, b) - 1.5)).toBeLessThan(0.03);
    // All the way round.
    const quarters = new Set(ring.map(([a, b]) => `${a > 0} ${b > 0}`));
    expect(quarters.size).toBe(4);
  });

  it("are as many as there are hills", () => {
    const hills = grid((a, b) => Math.max(2 - Math.hypot(a - 1, b - 1.5), 2 - Math.hypot(a + 1, b + 1.5)));
    expect(contours(x, y, hills, 1.4)).toHaveLength(2);
  });

  it("stop where there is no value, and are none where all lie on one side", () => {
    const half = grid((a, b) => (a < 0 ? null : b));
    for (const line of contours(x, y, half, 0.1)) for (const [a] of line) expect(a).toBeGreaterThanOrEqual(0);
    expect(
      contours(
        x,
        y,
        grid(() => 1),
        2,
      ),
    ).toEqual([]);
    expect(
      contours(
        x,
        y,
        grid(() => null),
        2,
      ),
    ).toEqual([]);
  });

  it("pass between neighbours on either side of them, whatever the values are", () => {
    for (let seed = 1; seed < 30; seed += 1) {
      const next = numbers(seed);
      const values = y.map(() => x.map(() => next()));
      for (const line of contours(x, y, values, 0.5)) {
        expect(line.length).toBeGreaterThan(1);
        for (const [a, b] of line) {
          const onX = x.some((value) => Math.abs(value - a) < 1e-12);
          const onY = y.some((value) => Math.abs(value - b) < 1e-12);
          expect(onX || onY).toBe(true);
        }
      }
    }
  });
});

describe("ticks", () => {
  it("are round, even, and within the range", () => {
    for (let seed = 1; seed < 200; seed += 1) {
      const next = numbers(seed);
      const low = (next() - 0.5) * 10 ** (next() * 8 - 4);
      const high = low + 10 ** (next() * 8 - 4);
      const count = 2 + Math.floor(next() * 8);
      const ticks = linearTicks(low, high, count);
      const room = 1e-6 * (high - low);
      for (const tick of ticks) {
        expect(tick).toBeGreaterThanOrEqual(low - room);
        expect(tick).toBeLessThanOrEqual(high + room);
      }
      expect(ticks.length).toBeLessThanOrEqual(count + 1);
      if (ticks.length > 1) {
        const step = (ticks[1] as number) - (ticks[0] as number);
        const digit = step / 10 ** Math.floor(Math.log10(step) + 1e-9);
        expect([1, 2, 5, 10].some((round) => Math.abs(digit - round) < 1e-6)).toBe(true);
      }
    }
  });

  it("are two at least on a value axis, however low it is", () => {
    for (const [low, high] of [
      [0, 1],
      [47.3, 47.9],
      [-0.02, 0.013],
      [999_999, 1_000_001],
    ] as const)
      for (const height of [10, 30, 80, 400]) {
        const ticks = valueTicks(low, high, height);
        expect(ticks.length).toBeGreaterThanOrEqual(2);
        expect(ticks.length).toBeLessThanOrEqual(Math.max(3, height / 20));
      }
  });

  it("of decades are powers of ten, with 2 and 5 where there are few", () => {
    expect(logTicks(0.01, 1000)).toEqual([0.01, 0.1, 1, 10, 100, 1000]);
    // Where labels would stand in each other's way the decades are enough.
    expect(logTicks(0.001, 0.1, 900)).toEqual([0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1]);
    expect(logTicks(0.001, 0.1, 300)).toEqual([0.001, 0.01, 0.1]);
    expect(logTicks(0.02, 0.09, 100).length).toBeGreaterThan(1);
    expect(logTicks(1, 100)).toEqual([1, 2, 5, 10, 20, 50, 100]);
  });

  it("zero is zero", () => {
    expect(linearTicks(-0.3, 0.3, 6)).toContain(0);
  });
});

describe("the extent of lines", () => {
  const line = (y: (number | null)[], half?: (number | null)[]) => ({
    x: steps(y.length, 0, 1),
    y,
    colour: "--pv",
    half,
  });

  it("holds every value and leaves a margin", () => {
    const [low, high] = extentOf([line([1, 5, null, 3])], "y", false);
    expect(low).toBeLessThan(1);
    expect(high).toBeGreaterThan(5);
    expect(extentOf([line([1, 5])], "x", false)).toEqual([0, 1]);
  });

  it("is not blown up by a band that is far wider than the line", () => {
    const [low, high] = extentOf([line([1, 2, 3], [1000, 1000, 1000])], "y", false);
    expect(high - low).toBeLessThan(6);
    const [narrow] = extentOf([line([1, 2, 3], [0.1, 0.1, 0.1])], "y", false);
    expect(narrow).toBeLessThan(0.9);
  });

  it("has a width where all values are one, or none is there", () => {
    for (const lines of [[line([4, 4, 4])], [line([0])], [], [line([null, null])]])
      for (const log of [false, true]) {
        const [low, high] = extentOf(lines, "y", log);
        expect(high).toBeGreaterThan(low);
        if (log) expect(low).toBeGreaterThan(0);
      }
  });

  it("leaves out what a logarithm cannot show", () => {
    expect(extentOf([line([-1, 0, 0.5, 20])], "y", true)).toEqual([0.5, 20]);
  });
});

describe("a panel of the strip", () => {
  const curve = (times: number[], values: (number | null)[], more = {}) => ({
    label: "PV",
    times,
    values,
    colour: "--pv",
    ...more,
  });
  const panel = (curves: ReturnType<typeof curve>[], more = {}) => ({
    key: "pv",
    title: "PV",
    unit: "°C",
    weight: 1,
    curves,
    ...more,
  });

  it("ranges over what is in sight, with room for the title", () => {
    const times = steps(101, 0, 100);
    const rising = panel([curve(times, times)]);
    const [low, high] = rangeOf(rising, 200, [20, 40]);
    expect(low).toBeLessThan(20);
    expect(low).toBeGreaterThan(15);
    expect(high).toBeGreaterThan(40);
    expect(high).toBeLessThan(50);
    // A level and what must be seen are in it, wherever the curve is.
    const [, top] = rangeOf(panel([curve(times, times)], { include: [90] }), 200, [20, 40]);
    expect(top).toBeGreaterThan(90);
  });

  it("ranges about a curve that stands still, and where there is none", () => {
    const [low, high] = rangeOf(panel([curve([0, 1], [7, 7])]), 100, [0, 1]);
    expect(low).toBeLessThan(7);
    expect(high).toBeGreaterThan(7);
    expect(rangeOf(panel([]), 100, [0, 1])).toEqual([0, 1]);
    expect(rangeOf(panel([curve([0, 1], [null, null])]), 100, [0, 1])).toEqual([0, 1]);
  });

  it("brings curves of other times onto one axis", () => {
    const joined = table(panel([curve([0, 2, 4], [1, 2, 3]), curve([1, 2, 3], [10, 20, 30])]));
    expect(joined[0]).toEqual([0, 1, 2, 3, 4]);
    expect(joined[1]?.[2]).toBe(2);
    expect(joined[2]?.[2]).toBe(20);
    const shared = [0, 1, 2];
    expect(table(panel([curve(shared, [1, 2, 3]), curve(shared, [4, 5, 6])]))).toEqual([
      shared,
      [1, 2, 3],
      [4, 5, 6],
    ]);
    expect(table(panel([]))[0]).toEqual([0, 1]);
  });

  it("reads the last value at or before a time", () => {
    const own = curve([0, 2, 4, 8], [1, 2, null, 4]);
    expect([-1, 0, 1.9, 2, 5, 8, 100].map((time) => valueAt(own, time))).toEqual([null, 1, 1, 2, null, 4, 4]);
    for (let seed = 1; seed < 40; seed += 1) {
      const next = numbers(seed);
      const times = Array.from({ length: 30 }, () => next() * 100).sort((a, b) => a - b);
      const values = times.map((_, k) => k);
      const time = next() * 110 - 5;
      const wanted = times.filter((known) => known <= time).length - 1;
      expect(valueAt(curve(times, values), time)).toBe(wanted < 0 ? null : wanted);
    }
  });
});

describe("interaction", () => {
  it("frames what belongs together and leaves out what is beyond drawing", async () => {
    const { isPaired, smoothed } = await import("../src/control/interaction");
    const pairing = { pairs: [{ output: "top", input: "reflux", relative_gain: 2 }] };
    expect(isPaired(pairing, "top", "reflux")).toBe(true);
    expect(isPaired(pairing, "top", "steam")).toBe(false);
    expect(isPaired(null, "top", "reflux")).toBe(false);
    expect(smoothed([1, 21, 0.5])).toEqual([1, null, 0.5]);
  });
});

describe("figures of an older engine", () => {
  it("says which figures are others now, and that there are some beyond the digits", async () => {
    const { changesOfFigures } = await import("../src/lib/comparison");
    const assessment = (iae: number) => ({
      metrics: { loads: { integral_absolute_error: iae }, set_point_responses: [], output_travel: 4 },
      margins: null,
    });
    const row = { trial: { plant: { pv: { span: { unit: "°C" } } } }, assessment: assessment(76) };
    const say = (before: number) => changesOfFigures(assessment(before) as never, row as never);
    expect(say(75)).toEqual(["load IAE 75 → 76 °C·s"]);
    expect(say(76)).toEqual(["figures differ beyond the digits that are shown"]);
  });
});

describe("a document that cannot be read", () => {
  it("is saved as it is", async () => {
    const { savedAs } = await import("../src/components/unreadable");
    const address = savedAs({ tag: "TIC-1 50 %", rows: [1, 2] });
    expect(JSON.parse(decodeURIComponent(address.split(",").slice(1).join(",")))).toEqual({
      tag: "TIC-1 50 %",
      rows: [1, 2],
    });
  });
});
