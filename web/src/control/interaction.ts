/** What the view of interaction draws. */
import type { Schemas } from "../api/client";

/** Dashes that tell the signals apart without colour. */
export const STYLES: number[][] = [[], [8, 4], [2, 3], [10, 3, 2, 3], [5, 2], [12, 6]];

/** Whether an output and an input belong together in a pairing. */
export function isPaired(
  pairing: Pick<Schemas["Pairing"], "pairs"> | null,
  output: string,
  input: string,
): boolean {
  return pairing?.pairs.some((pair) => pair.output === output && pair.input === input) ?? false;
}

/** Relative gains without the peaks at which a matrix is nearly singular: beyond this they say "large". */
export const LARGEST = 20;

export function smoothed(values: number[]): (number | null)[] {
  return values.map((value) => (value > LARGEST ? null : value));
}
