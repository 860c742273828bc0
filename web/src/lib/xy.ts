/** What a plot that is not over time shows, and its axes. */

export interface Line {
  x: number[];
  y: (number | null)[];
  label?: string;
  colour: string;
  dash?: number[];
  width?: number;
  /** Half widths of a band about the line. */
  half?: (number | null)[];
  kind?: "line" | "stems" | "points" | "crosses" | "circles" | "bars";
}

/** Round numbers over a range, about `count` of them. */
export function linearTicks(low: number, high: number, count: number): number[] {
  const span = high - low;
  if (!(span > 0)) return [low];
  const raw = span / Math.max(1, count);
  const power = 10 ** Math.floor(Math.log10(raw));
  const step = [1, 2, 5, 10].map((factor) => factor * power).find((size) => size >= raw) ?? raw;
  const ticks: number[] = [];
  for (let value = Math.ceil(low / step - 1e-9) * step; value <= high + 1e-9 * span; value += step) {
    ticks.push(Math.abs(value) < 1e-9 * span ? 0 : value);
  }
  return ticks;
}

/** Ticks of a value axis: as many as there is room for, two at least. */
export function valueTicks(low: number, high: number, height: number): number[] {
  for (let count = Math.max(2, Math.floor(height / 26)); count < 24; count += 1) {
    const ticks = linearTicks(low, high, count);
    if (ticks.length >= 2) return ticks;
  }
  return [low, high];
}

/** Room that the label of a tick across needs, in pixels. */
const LABEL = 52;

/** Decades over a range, with 2 and 5 between where there are few, and room for their labels. */
export function logTicks(low: number, high: number, width = Infinity): number[] {
  const decades = Math.log10(high / low);
  const factors = decades > 3 || (decades > 1 && 0.3 * (width / decades) < LABEL) ? [1] : [1, 2, 5];
  const ticks: number[] = [];
  for (let decade = Math.floor(Math.log10(low)); decade <= Math.ceil(Math.log10(high)); decade += 1) {
    for (const factor of factors) {
      const value = factor * 10 ** decade;
      if (value >= low * 0.999 && value <= high * 1.001) ticks.push(value);
    }
  }
  return ticks;
}

/** The range of the lines, bands included as far as they are not much wider than the lines themselves. */
export function extentOf(lines: Line[], axis: "x" | "y", log: boolean): [number, number] {
  let [low, high] = [Infinity, -Infinity];
  const take = (value: number | null | undefined) => {
    if (value === null || value === undefined || !Number.isFinite(value) || (log && value <= 0)) return;
    low = Math.min(low, value);
    high = Math.max(high, value);
  };
  for (const line of lines) (axis === "x" ? line.x : line.y).forEach(take);
  if (low > high) return log ? [0.1, 1] : [0, 1];
  if (axis === "y") {
    const [bottom, top] = [low, high];
    const room = Math.max(high - low, 1e-12) * 0.6;
    for (const line of lines) {
      line.y.forEach((value, k) => {
        const half = line.half?.[k];
        if (value === null || half === null || half === undefined) return;
        if (log) return;
        take(Math.max(value - half, bottom - room));
        take(Math.min(value + half, top + room));
      });
    }
  }
  if (high === low) {
    const room = Math.max(0.5 * Math.abs(high), 1e-9);
    return log ? [low / 2, high * 2] : [low - room, high + room];
  }
  if (log) return [low, high];
  const margin = axis === "y" ? 0.06 * (high - low) : 0;
  return [low - margin, high + margin];
}
