/** Predictive controllers: their settings as text, and what one sees ahead as panels. */
import type { Schemas, Trial } from "../api/client";
import { between, type Curve, type Mark, type Panel } from "../lib/strip";
import { number } from "../lib/format";
import { timesOf } from "../lib/traces";
import { readable } from "./events";
import { rankedLabel } from "./limits";

export type Predictive = Schemas["PredictiveSettings"];
export type LookAhead = Schemas["LookAhead"];

/** How long moves are held, as one types it: `1, 1, 2, 4 × 3` for four of the same. */
export function movesOf(moves: number[]): string {
  const runs: [held: number, times: number][] = [];
  for (const held of moves) {
    const last = runs.at(-1);
    if (last && last[0] === held) last[1] += 1;
    else runs.push([held, 1]);
  }
  return runs
    .map(([held, times]) => (times > 2 ? `${held} × ${times}` : Array(times).fill(held).join(", ")))
    .join(", ");
}

/** The same read again; what is the matter with it where it cannot be. */
export function movesIn(text: string): number[] | string {
  const moves: number[] = [];
  // A comma at the end is the beginning of the next.
  const parts = text.replace(/[,;]\s*$/, "").split(/[,;]/);
  for (const part of parts.map((one) => one.trim())) {
    const found = /^(\d+)(?:\s*[×x*]\s*(\d+))?$/.exec(part);
    const held = Number(found?.[1]);
    const times = Number(found?.[2] ?? 1);
    if (!found || held < 1 || times < 1 || times > 300)
      return `“${part}” is no number of scans: type for how many scans each move is held, such as 1, 1, 2, 4, or 2 × 5.`;
    moves.push(...Array<number>(times).fill(held));
  }
  return moves;
}

/** What came until a time, and from there on. */
function split(trace: Schemas["Trace"], tag: string, at: number): { before: Curve; after: Curve } | null {
  const column = trace.columns.find((known) => known.tag === tag);
  if (!column) return null;
  const times = timesOf(trace);
  const end = times.findIndex((time) => time > at + 1e-9);
  const cut = end < 0 ? times.length : end;
  const curve = (from: number, to: number, rest: Partial<Curve>): Curve => ({
    label: "",
    times: times.slice(from, to),
    values: column.values.slice(from, to),
    colour: "--pv",
    ...rest,
  });
  return {
    before: curve(0, cut, { width: 2.2 }),
    after: curve(Math.max(0, cut - 1), times.length, {
      label: "came",
      colour: "--measured",
      dash: [1, 3],
      width: 1.4,
    }),
  };
}

/** CVs with what is expected, MVs with what is planned; what came afterwards lies under it. */
export function aheadPanels(trace: Schemas["Trace"], ahead: LookAhead): Panel[] {
  const after = (count: number) =>
    Array.from({ length: count }, (_, k) => ahead.at + (k + 1) * ahead.interval);
  const cvs = ahead.cvs.map((cv): Panel => {
    const came = split(trace, cv.tag, ahead.at);
    const times = after(cv.expected.length);
    const line = (label: string, values: number[], rest: Partial<Curve>): Curve => ({
      label,
      times,
      values,
      colour: "--pv",
      ...rest,
    });
    const limit = ({ side, rank, values }: Schemas["LimitAhead"]): Curve => {
      const others = cv.limits.filter((other) => other.side === side);
      const label = others.length > 1 ? rankedLabel(side, rank) : `${side} limit`;
      return line(label, values, { colour: "--limit", dash: [8, 3], width: 1.2 });
    };
    return {
      key: cv.tag,
      title: cv.estimated ? `${readable(cv.tag)}, estimated` : cv.tag,
      unit: cv.unit,
      weight: 2,
      curves: [
        ...(came ? [came.before] : []),
        line("expected", cv.expected, { dash: [5, 3], width: 2 }),
        line("by itself", cv.by_itself, { colour: "--over-2", dash: [2, 4], width: 1.3 }),
        ...(cv.wanted.length
          ? [line("wanted", cv.wanted, { colour: "--ink", dash: [9, 4], width: 1.1 })]
          : []),
        ...cv.limits.map(limit),
        ...(came ? [came.after] : []),
      ],
    };
  });
  const mvs = ahead.mvs.map((mv): Panel => {
    const came = split(trace, mv.tag, ahead.at);
    const stepped = { colour: "--op", stepped: true };
    return {
      key: mv.tag,
      title: mv.tag,
      unit: "%",
      weight: 1.2,
      limits: between(mv.low, mv.high),
      curves: [
        ...(came ? [{ ...came.before, ...stepped, width: 2 }] : []),
        {
          label: "planned",
          times: [ahead.at, ...after(mv.planned.length - 1)],
          values: mv.planned,
          dash: [5, 3],
          width: 1.8,
          ...stepped,
        },
        ...(came ? [{ ...came.after, stepped: true }] : []),
      ],
    };
  });
  return [...cvs, ...mvs];
}

/** The scan that is looked at, which can be drawn to and fro. */
export function lookedAt(at: number): Mark[] {
  return [{ time: at, label: "this scan", colour: "--ink", key: "scan" }];
}

/** A scan so many steps on, within the trial. */
export function stepped(trial: Trial, at: number, scans: number): number {
  const { scan, duration } = trial.scenario;
  const last = Math.max(0, Math.ceil(duration / scan - 1e-9) - 1);
  const k = Math.round(at / scan) + scans;
  return Number((Math.min(Math.max(k, 0), last) * scan).toPrecision(12));
}

const DASHES: number[][] = [[], [7, 4], [2, 3], [10, 3, 2, 3], [4, 2], [1, 2]];
const COLOURS = ["--pv", "--op", "--dv", "--over-2", "--over-3", "--over-1", "--over-4"];

/** What each CV does after a step of each MV. */
export function responsePanels(over: Schemas["PlannedOver"]): Panel[] {
  return over.cvs.map((cv) => ({
    key: cv.tag,
    title: cv.tag,
    unit: `${cv.unit} after 1 %`,
    weight: 1,
    include: [0],
    curves: cv.by.map((own, k) => ({
      label: own.tag,
      times: [0, ...own.values.map((_, at) => (at + 1) * over.interval)],
      values: [0, ...own.values],
      colour: COLOURS[k % COLOURS.length] as string,
      dash: DASHES[k % DASHES.length],
      width: 2,
    })),
  }));
}

/** Both horizons where they reach, which can be drawn, and where all has settled. */
export function horizonMarks(over: Schemas["PlannedOver"]): Mark[] {
  const settles = over.settles_after
    ? [{ time: over.settles_after, label: "settled", colour: "--ink-soft" }]
    : [];
  return [
    ...settles,
    { time: over.last_move, label: "last move", colour: "--op", key: "last move" },
    { time: over.looks_ahead, label: "looks ahead", colour: "--ink", key: "horizon" },
  ];
}

/** How strongly an MV acts as its moves have told, beside what the model says, and what is planned with; nothing where nothing learns. */
export function learntOf({ learnt }: Schemas["AheadOfMv"]): string {
  if (!learnt) return "–";
  const { factor, standard_error: error, planned_with: used } = learnt;
  if (factor == null || error == null) return "nothing told yet";
  return `acts × ${number(factor)} ± ${number(1.96 * error, 2)} (× ${number(used)})`;
}
