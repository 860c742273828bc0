/** What is drawn: contours, ticks, ranges, values at the cursor, pictures. */
import fc from "fast-check";
import { describe, expect, it, vi } from "vitest";

vi.mock("../src/lib/theme", () => ({ colour: (token: string) => `<${token}>` }));

const { contours } = await import("../src/lib/contours");
const { extentOf, linearTicks, logTicks, valueTicks } = await import("../src/lib/xy");
const { rangeOf, table, valueAt } = await import("../src/lib/stripData");
const { stripSvg } = await import("../src/lib/stripPicture");
type Panel = import("../src/lib/strip").Panel;
type Curve = import("../src/lib/strip").Curve;

const grid = (count: number, step = 1, from = 0) => Array.from({ length: count }, (_, k) => from + k * step);

describe("contours", () => {
  it("of a plane lie on it, to the last digit", () => {
    const slope = fc.double({ min: -5, max: 5, noNaN: true });
    fc.assert(
      fc.property(slope, slope, fc.double({ min: -20, max: 20, noNaN: true }), (a, b, level) => {
        const [x, y] = [grid(7, 0.5), grid(5, 2, -3)];
        const values = y.map((up) => x.map((along) => a * along + b * up));
        for (const line of contours(x, y, values, level))
          for (const [along, up] of line)
            expect(Math.abs(a * along + b * up - level)).toBeLessThan(1e-9 * (1 + Math.abs(level) + 20));
      }),
    );
  });

  it("of a bowl are one closed line about its bottom, as long as the circle", () => {
    const side = grid(81, 0.05, -2);
    const values = side.map((y) => side.map((x) => x * x + y * y));
    const lines = contours(side, side, values, 1.21);
    expect(lines).toHaveLength(1);
    const line = lines[0]!;
    expect(line[0]).toEqual(line.at(-1));
    const length = line
      .slice(1)
      .reduce((sum, [x, y], k) => sum + Math.hypot(x - line[k]![0], y - line[k]![1]), 0);
    expect(Math.abs(length / (2 * Math.PI * 1.1) - 1)).toBeLessThan(2e-3);
    for (const [x, y] of line) expect(Math.abs(Math.hypot(x, y) - 1.1)).toBeLessThan(1e-3);
  });

  it("separate exactly what is below from what is not", () => {
    // Along every row the number of crossings is the number of times the values pass the level.
    const row = fc.array(fc.integer({ min: 0, max: 9 }), { minLength: 4, maxLength: 4 });
    fc.assert(
      fc.property(fc.array(row, { minLength: 3, maxLength: 3 }), (values) => {
        const level = 4.5;
        const points = new Set(
          contours(grid(4), grid(3), values, level)
            .flat()
            .map(([x, y]) => `${x.toFixed(9)} ${y.toFixed(9)}`),
        );
        let crossings = 0;
        values.forEach((line, j) =>
          line.forEach((value, i) => {
            const right = line[i + 1];
            const above = values[j + 1]?.[i];
            if (right !== undefined && value < level !== right < level) crossings += 1;
            if (above !== undefined && value < level !== above < level) crossings += 1;
          }),
        );
        expect(points.size).toBe(crossings);
      }),
    );
  });

  it("end where nothing is known", () => {
    const values = [
      [0, 1, 2, 3],
      [0, 1, null, 3],
      [0, 1, 2, 3],
    ];
    for (const line of contours(grid(4), grid(3), values, 1.5))
      for (const [x, y] of line) expect(Math.abs(x - 1.5) < 1e-12 && y === 1).toBe(false);
    expect(
      contours(
        grid(2),
        grid(2),
        [
          [null, null],
          [null, null],
        ],
        1,
      ),
    ).toEqual([]);
    expect(contours([1], [1], [[5]], 1)).toEqual([]);
  });
});

describe("ticks", () => {
  const ends = fc
    .tuple(fc.double({ min: -1e6, max: 1e6, noNaN: true }), fc.double({ min: 1e-6, max: 1e6, noNaN: true }))
    // Wide enough beside their size for the digits of a number.
    .filter(([low, span]) => span > 1e-6 * Math.abs(low));

  it("are round, even, and within the range", () => {
    fc.assert(
      fc.property(ends, fc.integer({ min: 2, max: 20 }), ([low, span], count) => {
        const high = low + span;
        const ticks = linearTicks(low, high, count);
        expect(ticks.length).toBeLessThanOrEqual(count + 1);
        ticks.forEach((tick) => {
          expect(tick).toBeGreaterThanOrEqual(low - 1e-8 * span);
          expect(tick).toBeLessThanOrEqual(high + 1e-8 * span);
        });
        const step = (ticks[1] ?? NaN) - (ticks[0] ?? NaN);
        if (!Number.isFinite(step)) return;
        const lead = step / 10 ** Math.floor(Math.log10(step * 1.000001));
        expect([1, 2, 5, 10].some((round) => Math.abs(lead / round - 1) < 1e-3)).toBe(true);
      }),
    );
  });

  it("of values are two at least, however little room there is", () => {
    fc.assert(
      fc.property(ends, fc.integer({ min: 10, max: 900 }), ([low, span], height) => {
        expect(valueTicks(low, low + span, height).length).toBeGreaterThanOrEqual(2);
      }),
    );
    expect(linearTicks(3, 3, 5)).toEqual([3]);
  });

  it("of a logarithmic axis are decades, and 2 and 5 between few of them", () => {
    const near = (ticks: number[], expected: number[]) => {
      expect(ticks).toHaveLength(expected.length);
      ticks.forEach((tick, k) => expect(tick / expected[k]!).toBeCloseTo(1, 12));
    };
    near(logTicks(0.1, 10), [0.1, 0.2, 0.5, 1, 2, 5, 10]);
    near(logTicks(1e-4, 10), [1e-4, 1e-3, 1e-2, 0.1, 1, 10]);
  });

  it("an extent holds all lines, and bands that do not dwarf them", () => {
    const line = { x: [0, 1, 2], y: [1, null, 3], colour: "--pv" };
    expect(extentOf([line], "x", false)).toEqual([0, 2]);
    const [low, high] = extentOf([line], "y", false);
    expect(low).toBeCloseTo(1 - 0.12, 12);
    expect(high).toBeCloseTo(3 + 0.12, 12);
    const wide = extentOf([{ ...line, half: [100, null, 100] }], "y", false);
    expect(wide[1] - wide[0]).toBeLessThan(2 * 2.4 * 1.13);
    expect(extentOf([], "y", false)).toEqual([0, 1]);
    expect(extentOf([{ ...line, y: [-1, 0, null] }], "y", true)).toEqual([0.1, 1]);
    expect(extentOf([{ ...line, y: [5, 5, 5] }], "y", true)).toEqual([2.5, 10]);
  });
});

const curveOf = (values: (number | null)[], rest: Partial<Curve> = {}): Curve => ({
  label: "PV",
  times: values.map((_, k) => 2 * k),
  values,
  colour: "--pv",
  ...rest,
});
const panelOf = (...curves: Curve[]): Panel => ({
  key: "pv",
  title: "TIC-1.PV",
  unit: "°C",
  curves,
  weight: 1,
});

describe("a strip", () => {
  it("reads a curve at the last sample before the cursor, as a plain walk does", () => {
    const values = fc.array(fc.option(fc.integer({ min: -9, max: 9 })), { maxLength: 30 });
    fc.assert(
      fc.property(values, fc.double({ min: -3, max: 70, noNaN: true }), (known, time) => {
        const curve = curveOf(known);
        let expected: number | null = null;
        curve.times.forEach((at, k) => {
          if (at <= time) expected = curve.values[k] ?? null;
        });
        expect(valueAt(curve, time)).toBe(expected);
      }),
    );
  });

  it("has room for every value that is in sight, and for the title above them", () => {
    const values = fc.array(fc.double({ min: -1e3, max: 1e3, noNaN: true }), { minLength: 2, maxLength: 40 });
    fc.assert(
      fc.property(values, fc.integer({ min: 60, max: 600 }), (known, height) => {
        const panel = panelOf(curveOf(known, { half: known.map(() => 0.5) }));
        const [low, high] = rangeOf(panel, height, [0, 1e9]);
        expect(low).toBeLessThan(Math.min(...known) - 0.5);
        expect(high).toBeGreaterThan(Math.max(...known) + 0.5);
        // The title is 24 px high.
        const pixels = ((high - Math.max(...known) - 0.5) / (high - low)) * height;
        expect(pixels).toBeGreaterThan(height < 80 ? 15 : 22);
      }),
    );
  });

  it("takes its range from what is shown only, and always covers what it has to", () => {
    const panel = panelOf(curveOf([1, 50, 2, 3]));
    expect(rangeOf(panel, 1e6, [3, 10])[1]).toBeCloseTo(3, 3);
    expect(rangeOf({ ...panel, include: [80] }, 1e6, [3, 10])[1]).toBeCloseTo(80, 1);
    const level = { key: "final", value: -7, label: "final", colour: "--dv" };
    expect(rangeOf({ ...panel, level }, 1e6, [3, 10])[0]).toBeCloseTo(-7, 3);
    expect(rangeOf(panelOf(curveOf([null, null])), 200, [0, 10])).toEqual([0, 1]);
    const [low, high] = rangeOf(panelOf(curveOf([5, 5])), 200, [0, 10]);
    expect(low).toBeLessThan(5);
    expect(high).toBeGreaterThan(5);
  });

  it("brings curves of different times onto one axis without losing a sample", () => {
    const times = fc.uniqueArray(fc.integer({ min: 0, max: 60 }), { minLength: 1, maxLength: 12 });
    fc.assert(
      fc.property(times, times, (first, second) => {
        const curves = [first, second].map((list) => {
          const sorted = [...list].sort((a, b) => a - b);
          return curveOf(
            sorted.map((time) => 10 * time),
            { times: sorted },
          );
        });
        const [axis, ...columns] = table(panelOf(...curves)) as [
          number[],
          ...(number | null | undefined)[][],
        ];
        curves.forEach((curve, c) => {
          curve.times.forEach((time) => expect(columns[c]![axis.indexOf(time)]).toBe(10 * time));
          const filled = columns[c]!.filter((value) => value !== null && value !== undefined);
          expect(filled).toHaveLength(curve.times.length);
        });
      }),
    );
    expect(table(panelOf())[0]).toEqual([0, 1]);
  });

  it("becomes a picture of every panel, curve and mark, whatever their names are", () => {
    const nasty = `<b>&"tank"</b>`;
    const panels = [
      panelOf(curveOf([1, 2, null, 4]), curveOf([3, 3, 3, 3], { label: nasty, dash: [5, 4], stepped: true })),
      { ...panelOf(curveOf([0, 50, 50, 0], { label: "OP" })), key: "op", title: nasty, unit: "%" },
    ];
    const svg = stripSvg(panels, [{ time: 2, label: "SP +5", colour: "--ink" }], nasty);
    expect(svg).not.toContain("<b>");
    expect(svg).toContain("&lt;b&gt;&amp;");
    for (const text of ["TIC-1.PV  °C", "SP +5", "PV", "OP"]) expect(svg).toContain(text);
    const paths = [...svg.matchAll(/<path d="(M[^"]*)" fill="none"/g)].map((found) => found[1]!);
    expect(paths).toHaveLength(3);
    expect(svg).not.toContain("NaN");
    // A missing sample parts a line; a stepped one runs along and up.
    expect(paths.some((path) => (path.match(/M/g) ?? []).length === 2)).toBe(true);
    expect(paths.some((path) => path.includes("H") && path.includes("V"))).toBe(true);
    const opened = (svg.match(/<(?!\/)[a-z]+/g) ?? []).length;
    const closed = (svg.match(/<\/[a-z]+>|\/>/g) ?? []).length;
    expect(opened).toBe(closed);
  });
});
