/** Which panels of a strip are open, in which order, and how high each is: what a person made of it. */
import type { Panel } from "./strip";

export interface Arrangement {
  /** Keys of panels in the order that somebody gave them; others stand where they come from. */
  order: string[];
  /** Keys of panels that are folded. */
  folded: string[];
}

export const AS_THEY_COME: Arrangement = { order: [], folded: [] };

/** A panel is never less high than this, px: a strip of many is scrolled. */
export const LEAST_HEIGHT = 64;

/** All panels in the order in which they are shown. */
export function ordered<P extends { key: string }>(panels: P[], order: string[]): P[] {
  const placed = panels.filter((panel) => order.includes(panel.key));
  placed.sort((a, b) => order.indexOf(a.key) - order.indexOf(b.key));
  const all = [...placed];
  // What nobody has placed comes after what it comes after by itself.
  panels.forEach((panel, k) => {
    if (order.includes(panel.key)) return;
    const before = panels[k - 1];
    all.splice(before ? all.indexOf(before) + 1 : 0, 0, panel);
  });
  return all;
}

/** The panels that are open, and those that are folded; one stays open whatever is folded. */
export function arranged(
  panels: Panel[],
  { order, folded }: Arrangement,
): { open: Panel[]; folded: Panel[] } {
  const all = ordered(panels, order);
  const open = all.filter((panel) => !folded.includes(panel.key));
  if (open.length === 0) return { open: all.slice(0, 1), folded: all.slice(1) };
  return { open, folded: all.filter((panel) => folded.includes(panel.key)) };
}

/** The arrangement with a panel moved among the open ones by so many places. */
export function moved(panels: Panel[], arrangement: Arrangement, key: string, by: number): Arrangement {
  const { open, folded } = arranged(panels, arrangement);
  const keys = open.map((panel) => panel.key);
  const from = keys.indexOf(key);
  const to = from + by;
  if (from < 0 || to < 0 || to >= keys.length) return arrangement;
  keys.splice(to, 0, ...keys.splice(from, 1));
  return { ...arrangement, order: [...keys, ...folded.map((panel) => panel.key)] };
}

/** The arrangement with a panel folded, or opened again. */
export function toggled(arrangement: Arrangement, key: string): Arrangement {
  const { folded } = arrangement;
  const next = folded.includes(key) ? folded.filter((other) => other !== key) : [...folded, key];
  return { ...arrangement, folded: next };
}

/** Heights that share `total` px by the weights, none below the least one. */
export function sharedHeights(weights: number[], total: number, least = LEAST_HEIGHT): number[] {
  const heights = new Array<number>(weights.length).fill(0);
  let [left, open] = [total, weights.map((_, k) => k)];
  // What would be too low takes the least height, and the others share what is left.
  for (;;) {
    const sum = open.reduce((all, k) => all + (weights[k] as number), 0);
    const low = open.filter((k) => (left * (weights[k] as number)) / sum < least);
    if (low.length === 0 || low.length === open.length) {
      for (const k of open) heights[k] = Math.max(least, (left * (weights[k] as number)) / sum);
      return heights;
    }
    for (const k of low) heights[k] = least;
    left -= low.length * least;
    open = open.filter((k) => !low.includes(k));
  }
}
