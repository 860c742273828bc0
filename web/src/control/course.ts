/** From a trial and its trace to what the strip shows. */
import type { Schemas, Trial } from "../api/client";
import { between, type Curve, type Mark, type Panel } from "../lib/strip";
import { colourOf, describe, readable, type Event } from "./events";
import { timesOf } from "../lib/traces";
import { cvOf, limitsOfCv, limitsOfMv, mvOf, spanOf } from "./limits";
import { loopsOf, measuredOf } from "./loops";

type Trace = Schemas["Trace"];
type Role = Schemas["ColumnRole"];

/** A trace that is drawn, with how it is drawn. */
export interface Drawn {
  name: string;
  trace: Trace;
  colour: string;
  dash: number[];
  /** Only hinted at, and without the noise of the sensor where that is known. */
  thin?: boolean;
}

function columnOf(trace: Trace, role: Role): Schemas["Column"] | undefined {
  return trace.columns.find((known) => known.role === role && !known.of);
}

/** Roles of the columns that are shown when they are asked for. */
const FURTHER: Role[] = ["true_value", "driven_input", "process_output"];

/** The key of all terms of a PID controller together; they are sent only where they are asked for. */
export const TERMS = "terms of the controller";

const isTerm = (column: Schemas["Column"]) =>
  column.role === "controller_term" && column.unit === "%" && !column.of;

/** The key of the error, set point minus PV. */
export const ERROR = "error, SP − PV";

/** The key of the same scenario without a controller, laid under. */
export const OPEN_LOOP = "open loop, laid under";

/** Columns that can be shown besides; of a controller, what it has learned. */
export function furtherColumns(trace: Trace): Schemas["Column"][] {
  return trace.columns.filter(
    (column) => FURTHER.includes(column.role) || (column.role === "controller_term" && !isTerm(column)),
  );
}

/** PV with set point, OP with the position of the valve, loads and disturbances at the foot, and what is asked for besides. */
export function coursePanels(
  trial: Trial,
  main: Drawn,
  load: { at: number; recovery_band: number } | undefined,
  under: Drawn[],
  extra: Set<string>,
  /** Whether limits of a predictive controller can be drawn up and down. */
  canMove = false,
): Panel[] {
  const { trace } = main;
  const times = timesOf(trace);
  const curve = (values: number[], rest: Partial<Curve>): Curve => ({
    label: main.name,
    times,
    values,
    colour: "--pv",
    ...rest,
  });
  const laidUnder = (pick: (trace: Trace) => number[] | undefined, stepped: boolean): Curve[] =>
    under.flatMap(({ name, trace: other, colour, dash, thin }) => {
      const found = pick(other);
      const truth = columnOf(other, "true_value")?.values;
      const values = thin && truth && found === columnOf(other, "process_variable")?.values ? truth : found;
      if (!values) return [];
      const width = thin ? 1.1 : 1.6;
      return [{ label: name, times: timesOf(other), values, colour, dash, stepped, width, faint: true }];
    });
  const values = (role: Role) => columnOf(trace, role)?.values ?? [];
  const byRole = (role: Role) => (other: Trace) => columnOf(other, role)?.values;
  const unit = trial.plant.pv.span.unit;
  const end = times.at(-1) ?? 0;
  const setPoint = values("set_point").at(-1) ?? 0;
  const isManual = trial.candidate.controller.kind === "manual";
  const cv = cvOf(trial, trial.plant.pv.tag);
  const mv = mvOf(trial, trial.plant.op.tag);
  const outputLimits = between(trace.output_limits.low, trace.output_limits.high);
  const bands =
    load && !isManual
      ? [{ from: load.at, to: end, low: setPoint - load.recovery_band, high: setPoint + load.recovery_band }]
      : [];
  const shades = trace.stopped
    ? [{ from: trace.stopped.at, to: trial.scenario.duration, colour: "--limit" }]
    : [];
  const truth = columnOf(trace, "true_value");
  const position = values("position");
  const panels: Panel[] = [
    {
      key: "pv",
      title: trial.plant.pv.tag,
      unit,
      weight: 3.2,
      bands,
      shades,
      limits: limitsOfCv(trial, trace, cv, canMove),
      curves: [
        curve(values("process_variable"), { width: 2.4 }),
        ...laidUnder(byRole("process_variable"), false),
        ...(truth && extra.has(truth.tag)
          ? [curve(truth.values, { label: "true", colour: "--measured", dash: [1, 3], width: 1.6 })]
          : []),
        ...(isManual || cv?.follows_set_point === false
          ? []
          : [
              curve(values("set_point"), {
                label: "SP",
                colour: "--ink",
                dash: [5, 4],
                width: 1.2,
                stepped: true,
              }),
            ]),
      ],
    },
    {
      key: "op",
      title: trial.plant.op.tag,
      unit: "%",
      weight: 1.7,
      limits: mv ? limitsOfMv(trial, mv, canMove) : outputLimits,
      curves: [
        curve(values("output"), { colour: "--op", stepped: true, width: 2 }),
        ...laidUnder(byRole("output"), true),
        ...(position.length
          ? [curve(position, { label: "valve", colour: "--measured", dash: [2, 2], width: 1.3 })]
          : []),
      ],
    },
  ];
  panels.push(...furtherPanels(trial, trace, curve, laidUnder, canMove));
  const loads = values("load");
  if (loads.some((value) => value !== 0))
    panels.push({
      key: "load",
      title: "load",
      unit: "% OP, where the OP acts",
      weight: 0.7,
      curves: [curve(loads, { label: "load", colour: "--dv", stepped: true, fillTo: 0, width: 1.4 })],
    });
  for (const column of trace.columns.filter(
    (known) => known.role === "disturbance" || known.role === "measured_disturbance",
  )) {
    const lowest = column.values.reduce((low, value) => Math.min(low, value), Infinity);
    panels.push({
      key: column.tag,
      title: readable(column.tag),
      unit: column.unit,
      weight: 0.7,
      curves: [
        curve(column.values, { label: "", colour: "--dv", stepped: true, fillTo: lowest, width: 1.4 }),
      ],
    });
  }
  if (extra.has(ERROR)) {
    const error = (of: Trace) => {
      const [pv, sp] = [columnOf(of, "process_variable")?.values, columnOf(of, "set_point")?.values];
      return pv && sp ? pv.map((value, k) => (sp[k] ?? NaN) - value) : undefined;
    };
    panels.push({
      key: ERROR,
      title: ERROR,
      unit,
      weight: 1,
      include: [0],
      curves: [curve(error(trace) ?? [], { width: 1.8 }), ...laidUnder(error, false)],
    });
  }
  const terms = trace.columns.filter(isTerm);
  if (extra.has(TERMS) && terms.length > 0) {
    const styles: Record<string, [label: string, colour: string, dash: number[]]> = {
      "proportional term": ["P", "--pv", []],
      "integral term": ["I", "--op", [7, 4]],
      "derivative term": ["D", "--dv", [2, 3]],
      "feed-forward": ["FF", "--over-2", [9, 3, 2, 3]],
      "unlimited output": ["unlimited", "--ink", [1, 3]],
    };
    panels.push({
      key: TERMS,
      title: TERMS,
      unit: "% OP",
      weight: 1.6,
      curves: terms.map((column) => {
        const [label, colour, dash] = styles[column.tag] ?? [column.tag, "--measured", []];
        return curve(column.values, { label, colour, dash, stepped: true, width: 1.6 });
      }),
    });
  }
  for (const column of furtherColumns(trace)) {
    if (column.role === "true_value" || !extra.has(column.tag)) continue;
    panels.push({
      key: column.tag,
      title: readable(column.tag),
      unit: column.unit,
      weight: 1,
      curves: [
        curve(column.values, { colour: "--pv", width: 1.8 }),
        ...laidUnder((other) => other.columns.find((known) => known.tag === column.tag)?.values, false),
      ],
    });
  }
  return panels;
}

/** PV with set point and OP of each further loop. */
function furtherPanels(
  trial: Trial,
  trace: Trace,
  curve: (values: number[], rest: Partial<Curve>) => Curve,
  laidUnder: (pick: (trace: Trace) => number[] | undefined, stepped: boolean) => Curve[],
  canMove: boolean,
): Panel[] {
  const names = [...new Set(trace.columns.flatMap((column) => (column.of ? [column.of] : [])))];
  return names.flatMap((name) => {
    const own = trace.columns.filter((column) => column.of === name);
    const byTag = (tag: string) => (other: Trace) => other.columns.find((known) => known.tag === tag)?.values;
    const setPoint = own.find((column) => column.role === "set_point");
    const panels: Panel[] = [];
    for (const column of own) {
      const pair = column.role === "process_variable" || column.role === "output" || column.role === "load";
      const putOut = column.role === "controller_term";
      if (!pair && !putOut && column.role !== "set_point") continue;
      // A set point whose PV stands elsewhere (an override, say) has a panel of its own; else it lies on its PV.
      if (column.role === "set_point" && own.some((other) => other.role === "process_variable")) continue;
      const isPv = column.role === "process_variable";
      const cv = isPv ? cvOf(trial, column.tag) : null;
      const mv = column.role === "output" ? mvOf(trial, column.tag) : null;
      panels.push({
        key: column.tag,
        title: putOut ? readable(column.tag) : column.tag,
        unit: column.unit,
        weight: isPv ? 2 : 1,
        limits: mv ? limitsOfMv(trial, mv, canMove) : limitsOfCv(trial, trace, cv, canMove),
        curves: [
          curve(column.values, isPv ? { width: 2.2 } : { colour: "--op", stepped: true, width: 1.8 }),
          ...laidUnder(byTag(column.tag), !isPv),
          ...(isPv && setPoint && cv?.follows_set_point !== false
            ? [
                curve(setPoint.values, {
                  label: "SP",
                  colour: "--ink",
                  dash: [5, 4],
                  width: 1.2,
                  stepped: true,
                }),
              ]
            : []),
        ],
      });
    }
    return panels;
  });
}

/** Whether an event is felt at its own loop first: a load on an input or a parameter is felt by all of a plant. */
function isAtLoop(event: Event): boolean {
  return !("input" in event && event.input) && event.kind !== "parameter_change";
}

/** Most things of a kind that are marked: a tank at its rim can spill at every scan. */
const MOST_HAPPENINGS = 6;

/** The events where they happen, which can be drawn to another time, and what happened by itself. */
export function courseMarks(
  trial: Trial,
  description: Schemas["Description"] | null,
  trace: Trace | null,
  movable: boolean,
): Mark[] {
  const unit = trial.plant.pv.span.unit;
  const loops = loopsOf(trial);
  /** The panels of a loop; those of the first have keys of their own. */
  const panelsOf = (of: string) =>
    of
      ? (trace?.columns ?? []).filter((column) => column.of === of).map((column) => column.tag)
      : ["pv", "op", "load"];
  const events = loops.flatMap(({ key: of, name }) => {
    const list = of ? (trial.scenario.further?.[of] ?? []) : trial.scenario.events;
    const own = of ? measuredOf(trial, of).span.unit : unit;
    return list.map((event, index) => ({
      time: event.at,
      label: `${of ? `${name}: ` : ""}${describe(event, own, description, (tag) => spanOf(trial, tag).unit)}`,
      colour: colourOf(event),
      key: movable ? `event ${index} ${of}`.trim() : undefined,
      ...(loops.length > 1 && trace && isAtLoop(event) ? { panels: panelsOf(of) } : {}),
    }));
  });
  const happenings = (trace?.happenings ?? [])
    .slice(0, MOST_HAPPENINGS)
    .map(({ at, text }) => ({ time: at, label: `△ ${text}`, colour: "--limit" }));
  const stopped = trace?.stopped ? [{ time: trace.stopped.at, label: "▲ stopped", colour: "--limit" }] : [];
  const { controller } = trial.candidate;
  const learnt = endsOfLearning(controller, trial.scenario.duration).map((time) => ({
    time,
    label: "learning ends",
    colour: "--ink-soft",
  }));
  return [...events, ...learnt, ...happenings, ...stopped];
}

/** When the stretches end in which a controller moves its outputs to learn. */
function endsOfLearning(controller: Trial["candidate"]["controller"], duration: number): number[] {
  if (controller.kind === "self_tuning") return [controller.identification_time];
  const learns = controller.kind === "predictive" ? controller.learns : null;
  if (!learns) return [];
  const again = learns.again_after ?? Infinity;
  const ends = [learns.lasts];
  for (let at = again; at < duration && ends.length < MOST_HAPPENINGS; at += again)
    ends.push(at + learns.lasts);
  return ends.filter((at) => at <= duration);
}

const TERM_DASHES: number[][] = [[], [7, 4], [2, 3], [10, 3, 2, 3], [4, 2], [1, 2]];
const TERM_COLOURS = ["--pv", "--op", "--dv", "--over-2", "--over-3", "--over-1", "--over-4"];

/** The unit in which a flow of this size reads best, and the factor to it: kW rather than 1000 J/s. */
function readableUnit(unit: string, largest: number): [number, string] {
  const power: Record<string, number> = { "J/s": 1, W: 1, "kJ/s": 1e3, kW: 1e3 };
  const watts = power[unit];
  if (watts !== undefined) {
    const size = largest * watts;
    if (size >= 1e6) return [watts / 1e6, "MW"];
    if (size >= 1e3) return [watts / 1e3, "kW"];
    return [watts, "W"];
  }
  return largest >= 1e5 ? [1e-3, `1000 ${unit}`] : [1, unit];
}

/** Each balance with its terms over time, and the PV above. */
export function balancePanels(trial: Trial, trace: Trace): Panel[] {
  const times = timesOf(trace);
  const pv: Panel = {
    key: "pv",
    title: trial.plant.pv.tag,
    unit: trial.plant.pv.span.unit,
    weight: 1,
    curves: [
      {
        label: "PV",
        times,
        values: columnOf(trace, "process_variable")?.values ?? [],
        colour: "--pv",
        width: 2,
      },
    ],
  };
  const sheets = (trace.balances ?? []).map((sheet) => {
    const prefix = `${sheet.name}: `;
    const columns = trace.columns.filter(
      (column) => column.role === "balance_term" && column.tag.startsWith(prefix),
    );
    const largest = columns.reduce(
      (high, column) => column.values.reduce((most, value) => Math.max(most, Math.abs(value)), high),
      0,
    );
    const [scale, unit] = readableUnit(columns[0]?.unit ?? "", largest);
    const stored = trace.columns.find(
      (column) => column.role === "balance_stored" && column.tag.startsWith(prefix),
    );
    const scaled = (values: number[]) => (scale === 1 ? values : values.map((value) => scale * value));
    return {
      key: sheet.name,
      title: `${sheet.name} balance`,
      unit,
      weight: 1.6,
      curves: [
        {
          label: "stored",
          times,
          values: scaled(stored?.values ?? []),
          colour: "--ink",
          dash: [5, 3],
          width: 1.2,
        },
        ...columns.map((column, k) => ({
          label: readable(column.tag.slice(prefix.length)),
          times,
          values: scaled(column.values),
          colour: TERM_COLOURS[k % TERM_COLOURS.length] as string,
          dash: TERM_DASHES[k % TERM_DASHES.length],
          width: 1.8,
        })),
      ],
    };
  });
  return [pv, ...sheets];
}
