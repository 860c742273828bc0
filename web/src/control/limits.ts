/** The limits of a predictive controller: all of a CV, on the strip, and drawn to another value. */
import type { Schemas, Trial } from "../api/client";
import { between, type Limit } from "../lib/strip";
import { timesOf } from "../lib/traces";
import { measuredTags } from "./loops";

type Cv = Schemas["ControlledVariable"];
type Mv = Schemas["ManipulatedVariable"];
type Side = Schemas["Side"];

export interface OwnLimit {
  /** Where it stands among the settings of its CV: `low`, `bands[1].high`. */
  place: string;
  side: Side;
  limit: Schemas["RankedLimit"];
}

/** All limits of a CV. */
export function allLimits(cv: Cv): OwnLimit[] {
  const bands = (cv.bands ?? []).map((band, k) => ({ before: `bands[${k}].`, band }));
  return [{ before: "", band: { low: cv.low, high: cv.high } }, ...bands].flatMap(({ before, band }) =>
    (["low", "high"] as const).flatMap((side) => {
      const limit = band[side];
      return limit ? [{ place: `${before}${side}`, side, limit }] : [];
    }),
  );
}

/** The settings of the predictive controller of a trial, wherever it stands; null where it has none. */
export function predictiveOf(trial: Trial): Schemas["PredictiveSettings"] | null {
  const { controller, further = [] } = trial.candidate;
  for (const one of [controller, ...further.map((wired) => wired.controller)])
    if (one.kind === "predictive") return one;
  return null;
}

/** The span of a CV: of a measured signal, or as it was given for one that nothing measures. */
export function spanOf(trial: Trial, tag: string): Schemas["Span"] {
  const k = measuredTags(trial).indexOf(tag);
  const estimated = predictiveOf(trial)?.cvs.find((cv) => cv.tag === tag)?.estimated;
  const measured = k <= 0 ? trial.plant.pv : trial.plant.further_measured?.[k - 1];
  return (k < 0 && estimated ? estimated : (measured ?? trial.plant.pv)).span;
}

/** The CV that a measured signal is to a predictive controller, and the MV that an OP is. */
export function cvOf(trial: Trial, tag: string): Cv | null {
  return predictiveOf(trial)?.cvs.find((cv) => cv.tag === tag) ?? null;
}

export function mvOf(trial: Trial, tag: string): Mv | null {
  return predictiveOf(trial)?.mvs.find((mv) => mv.tag === tag) ?? null;
}

/** What tells a limit from others of its CV, in few letters. */
export function rankedLabel(side: Side, rank: number): string {
  return `${side === "low" ? "≥" : "≤"} rank ${rank}`;
}

/** The limits of a CV on its panel: those that are moved as they move, the others to be drawn where that is to be. */
export function limitsOfCv(trial: Trial, trace: Schemas["Trace"], cv: Cv | null, canMove: boolean): Limit[] {
  if (!cv) return [];
  const own = allLimits(cv);
  const at = predictiveOf(trial)?.cvs.findIndex((one) => one.tag === cv.tag);
  return own.map(({ place, side, limit }): Limit => {
    const isOne = own.filter((other) => other.side === side).length === 1;
    const label = isOne ? `${side} limit` : rankedLabel(side, limit.rank);
    const tag = `${cv.tag} ${side} limit, rank ${limit.rank}`;
    const moved = trace.columns.find((column) => column.role === "limit" && column.tag === tag);
    if (moved) return { side, values: moved.values, times: timesOf(trace), label };
    const key = canMove ? `limit cvs[${at}].${place}` : undefined;
    return { side, values: [limit.value], label: isOne && !key ? undefined : label, key };
  });
}

/** The limits of an MV on its panel. */
export function limitsOfMv(trial: Trial, mv: Mv, canMove: boolean): Limit[] {
  const at = predictiveOf(trial)?.mvs.findIndex((one) => one.tag === mv.tag);
  return between(mv.low ?? 0, mv.high ?? 100).map((limit) =>
    canMove ? { ...limit, label: `${limit.side} limit`, key: `limit mvs[${at}].${limit.side}` } : limit,
  );
}

/** A value as one would type it: to about a five-hundredth of its range. */
function tidy(value: number, width: number): number {
  const grain = 10 ** Math.floor(Math.log10(width / 500));
  return Number((Math.round(value / grain) * grain).toPrecision(9));
}

/** Moves a limit to a value, by where it stands among the settings: `cvs[0].bands[1].high`, `mvs[1].low`. It does not pass its like. */
export function moveLimit(trial: Trial, place: string, to: number) {
  const settings = predictiveOf(trial);
  const [, list, k, band, side] = /^(cvs|mvs)\[(\d+)\]\.(?:bands\[(\d+)\]\.)?(low|high)$/.exec(place) ?? [];
  if (!settings || !side) return;
  const end = side as Side;
  if (list === "mvs") {
    const mv = settings.mvs[Number(k)];
    if (!mv) return;
    const [low, high] = end === "low" ? [0, (mv.high ?? 100) - 1] : [(mv.low ?? 0) + 1, 100];
    mv[end] = tidy(Math.min(Math.max(to, low), high), 100);
    return;
  }
  const cv = settings.cvs[Number(k)];
  const ends = band === undefined ? cv : cv?.bands?.[Number(band)];
  const limit = ends?.[end];
  if (!cv || !limit) return;
  const { low, high } = spanOf(trial, cv.tag);
  const other = ends[end === "low" ? "high" : "low"]?.value;
  const value = tidy(to, high - low);
  limit.value = other === undefined ? value : end === "low" ? Math.min(value, other) : Math.max(value, other);
}
