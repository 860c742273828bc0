/** The regions of a law on a map: which are alike, where their labels stand, and what holds in them, in words. */
import type { Schemas } from "../api/client";
import { number, signed } from "../lib/format";

export type RegionMap = Schemas["RegionMap"];
export type Region = Schemas["RegionOnMap"];
type Point = [number, number];

/** Regions with the same limits, the largest area first. */
export interface Kind {
  /** From 1 on. */
  label: number;
  limits: string[];
  /** How it is drawn: by what limits the move that is made now, or what only comes. */
  fill: "free" | "low" | "high" | "fast" | "later";
  regions: { region: Region; at: Point; share: number }[];
  share: number;
}

/** Twice the signed area of a polygon. */
function doubled(corners: Point[]): number {
  return corners.reduce((sum, [x, y], k) => {
    const [toX, toY] = corners[(k + 1) % corners.length] as Point;
    return sum + x * toY - toX * y;
  }, 0);
}

export function areaOf(corners: Point[]): number {
  return Math.abs(doubled(corners)) / 2;
}

/** Where the middle of a polygon is. */
export function middleOf(corners: Point[]): Point {
  const whole = 3 * doubled(corners);
  if (whole === 0) return corners[0] ?? [0, 0];
  const sum = corners.reduce<Point>(
    ([sumX, sumY], [x, y], k) => {
      const [toX, toY] = corners[(k + 1) % corners.length] as Point;
      const turn = x * toY - toX * y;
      return [sumX + (x + toX) * turn, sumY + (y + toY) * turn];
    },
    [0, 0],
  );
  return [sum[0] / whole, sum[1] / whole];
}

function fillOf(limits: string[]): Kind["fill"] {
  const now = limits.filter((text) => !text.endsWith(" later"));
  if (limits.length === 0) return "free";
  if (now.some((text) => text.includes("high limit"))) return "high";
  if (now.some((text) => text.includes("low limit"))) return "low";
  return now.length ? "fast" : "later";
}

/** The regions of a map by what limits them. */
export function kindsOf(map: RegionMap): Kind[] {
  const [right, up] = map.over.map((place) => map.parameters[place]);
  const whole = right && up ? (right.high - right.low) * (up.high - up.low) : 1;
  const kinds = new Map<string, Kind>();
  for (const region of map.regions) {
    const corners = region.corners as Point[];
    const share = areaOf(corners) / whole;
    const key = region.limits.join("; ");
    const kind = kinds.get(key) ?? {
      label: 0,
      limits: region.limits,
      fill: fillOf(region.limits),
      regions: [],
      share: 0,
    };
    kind.regions.push({ region, at: middleOf(corners), share });
    kind.share += share;
    kinds.set(key, kind);
  }
  return [...kinds.values()].sort((a, b) => b.share - a.share).map((kind, k) => ({ ...kind, label: k + 1 }));
}

/** What an MV is set to in a region: `OP = 1.2 × set point − 0.2 × OP before + 34 %`. */
export function lawOf(map: RegionMap, law: Schemas["LawOfMv"]): string {
  const [right, up] = map.over.map((place) => map.parameters[place]?.title ?? "");
  const slope = (factor: number, title: string | undefined) =>
    Math.abs(factor) < 1e-6 ? "" : `${signed(factor)} × ${title} `;
  return `${law.tag} = ${slope(law.right, right)}${slope(law.up, up)}${signed(law.offset)} %`.replace(
    /= \+/,
    "= ",
  );
}

/** How large a law is, in words. */
export function sizeOf(map: RegionMap): string {
  const one = (count: number, what: string) => `${number(count)} ${what}${count === 1 ? "" : "s"}`;
  return `${one(map.moves, "region")} of the moves and ${one(map.rests, "region")} of where to rest, over ${one(map.knows, "parameter")}: ${number(map.numbers)} numbers in all.`;
}
