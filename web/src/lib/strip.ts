/** What a strip shows: panels on one time axis. */

export interface Curve {
  /** Direct label at the end of the curve. */
  label: string;
  /** Times in s, rising. */
  times: number[];
  /** One value a time; null where missing. */
  values: (number | null)[];
  /** Colour token, such as `--pv`. */
  colour: string;
  width?: number;
  dash?: number[];
  /** Holds each value until the next. */
  stepped?: boolean;
  /** Filled down to this value. */
  fillTo?: number;
  /** Laid under the others, without a label. */
  faint?: boolean;
  /** Filled down to these values: a layer of a stack. */
  floor?: (number | null)[];
  /** What is read of it, where that is not its height: the own share of a layer. */
  amounts?: (number | null)[];
  /** Half widths of a band about the curve. */
  half?: (number | null)[];
}

export interface Panel {
  key: string;
  title: string;
  unit: string;
  curves: Curve[];
  /** Share of the height. */
  weight: number;
  /** Values that the axis always covers. */
  include?: number[];
  /** Limits: drawn where they are in sight, and the first curve is marked where it stands at one. */
  limits?: Limit[];
  /** Bands across the panel, such as the settling band. */
  bands?: { from: number; to: number; low: number; high: number }[];
  /** Stretches that are called out, over the whole height. */
  shades?: { from: number; to: number; colour: string }[];
  /** A value that can be drawn up and down. */
  level?: { key: string; value: number; label: string; colour: string };
  /** Straight lines over the curves, from time and value to time and value. */
  strokes?: { from: [number, number]; to: [number, number]; colour: string }[];
}

export interface Limit {
  side: "low" | "high";
  /** Where it is: one value throughout, or one a time. */
  values: number[];
  times?: number[];
  /** What tells it from others on its side. */
  label?: string;
  /** Names one that can be drawn up and down. */
  key?: string;
}

/** A limit on either side, throughout. */
export function between(low: number, high: number): Limit[] {
  return [
    { side: "low", values: [low] },
    { side: "high", values: [high] },
  ];
}

/** A limit in level pieces, each from a time to a time. */
export function piecesOf({ times, values }: Limit): { from: number; to: number; value: number }[] {
  if (!times) return values.slice(0, 1).map((value) => ({ from: -Infinity, to: Infinity, value }));
  const starts = values.flatMap((value, k) => (k === 0 || value !== values[k - 1] ? [k] : []));
  return starts.map((k, piece) => ({
    from: times[k] as number,
    to: times[starts[piece + 1] ?? times.length - 1] as number,
    value: values[k] as number,
  }));
}

/** Where a limit is at a time. */
export function limitAt({ times, values }: Limit, time: number): number {
  if (!times) return values[0] as number;
  let [low, high] = [0, times.length - 1];
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if ((times[middle] as number) <= time) low = middle;
    else high = middle - 1;
  }
  return values[low] as number;
}

export interface Mark {
  time: number;
  label: string;
  colour: string;
  /** Names a mark that can be drawn to and fro. */
  key?: string;
  /** Keys of the panels that it belongs to; all of them where left out. */
  panels?: string[];
}

/** Dash patterns of the curves that are laid over: told apart without colour. */
export const OVERLAYS: { colour: string; dash: number[] }[] = [
  { colour: "--over-1", dash: [7, 4] },
  { colour: "--over-2", dash: [2, 3] },
  { colour: "--over-3", dash: [10, 3, 2, 3] },
  { colour: "--over-4", dash: [4, 2] },
];
