/** What can happen in a scenario: its words, its fields, its mark on the strip. */
import { answered, api, type Schemas, type Trial } from "../api/client";
import type { Choice } from "../components/ChoiceField.vue";
import { rangeIn, whenGiven, type Field } from "../lib/field";
import { duration as timeText, number, signed } from "../lib/format";
import { spanOf } from "./limits";

export type Event = Trial["scenario"]["events"][number];
type Description = Schemas["Description"];

export const KINDS: { group: string; kinds: [Event["kind"], string][] }[] = [
  {
    group: "Set point",
    kinds: [
      ["set_point_step", "set point step"],
      ["set_point_ramp", "set point ramp"],
      ["set_point_profile", "set point profile"],
    ],
  },
  {
    group: "Load",
    kinds: [
      ["load_step", "load step"],
      ["load_ramp", "load ramp"],
      ["load_pulse", "load pulse"],
      ["load_sine", "load sine"],
      ["load_walk", "random walk"],
      ["load_channel", "channel of a record"],
    ],
  },
  { group: "Process", kinds: [["parameter_change", "parameter changes"]] },
  {
    group: "Faults",
    kinds: [
      ["valve_sticks", "valve sticks"],
      ["valve_fails", "valve loses its supply"],
      ["sensor_fails", "sensor fails"],
    ],
  },
  {
    group: "Operator",
    kinds: [
      ["to_manual", "to manual"],
      ["output_step", "moves the output"],
      ["to_automatic", "back to automatic"],
      ["limit_moves", "limit is moved"],
    ],
  },
];

export function titleOf(kind: Event["kind"]): string {
  return KINDS.flatMap((group) => group.kinds).find(([known]) => known === kind)?.[1] ?? kind;
}

/** Words as they are read: `feed_flow` as "feed flow". */
export function readable(name: string): string {
  return name.replaceAll("_", " ");
}

/** Named quantities to choose from, each with its unit. */
export function choicesOf(quantities: { name: string; unit: string }[]): Choice[] {
  return quantities.map(({ name, unit }) => ({ value: name, title: `${readable(name)} (${unit || "–"})` }));
}

/** Whether an event acts on an input that can be named. */
export function isLoad(event: Event): event is Extract<Event, { kind: `load_${string}` }> {
  return event.kind.startsWith("load_");
}

/** The unit of a load: that of its input, or % of the OP. */
export function loadUnit(event: Event, description: Description | null): string {
  const name = "input" in event ? event.input : null;
  if (!name) return "% OP";
  return description?.inputs.find((input) => input.name === name)?.unit ?? "";
}

function parameterUnit(name: string, description: Description | null): string {
  return description?.parameters.find((parameter) => parameter.name === name)?.unit ?? "";
}

/** A line that says what an event does. */
export function describe(
  event: Event,
  pvUnit: string,
  description: Description | null,
  unitOfCv: (tag: string) => string = () => "",
): string {
  const load = loadUnit(event, description);
  const on = "input" in event && event.input ? readable(event.input) : "load";
  switch (event.kind) {
    case "set_point_step":
      return `SP ${signed(event.by)} ${pvUnit}`;
    case "set_point_ramp":
      return `SP ${signed(event.by)} ${pvUnit} in ${timeText(event.over)}`;
    case "set_point_profile":
      return `SP profile, ${event.points.length} points`;
    case "load_step":
      return `${on} ${signed(event.by)} ${load}`;
    case "load_ramp":
      return `${on} ${signed(event.by)} ${load} in ${timeText(event.over)}`;
    case "load_pulse":
      return `${on} ${signed(event.by)} ${load} for ${timeText(event.lasts)}`;
    case "load_sine":
      return `${on} ±${number(event.by)} ${load} every ${timeText(event.period)}`;
    case "load_walk":
      return `${on} walks, ${number(event.by)} ${load}/h`;
    case "load_channel":
      return `${on} as ${event.tag}`;
    case "parameter_change":
      return `${readable(event.parameter)} to ${number(event.to)} ${parameterUnit(event.parameter, description)}`;
    case "output_step":
      return `OP ${signed(event.by)} %`;
    case "to_manual":
      return "manual";
    case "to_automatic":
      return "automatic";
    case "limit_moves": {
      const over = event.over ? ` in ${timeText(event.over)}` : "";
      const sign = event.side === "low" ? "≥" : "≤";
      return `${event.cv} ${sign} ${number(event.to)} ${unitOfCv(event.cv)}${over}, rank ${event.rank}`;
    }
    case "valve_sticks":
      return `valve sticks for ${timeText(event.lasts)}`;
    case "valve_fails":
      return `valve without supply for ${timeText(event.lasts)}`;
    case "sensor_fails":
      return `sensor ${event.how} for ${timeText(event.lasts)}`;
  }
}

/** The colour of an event's mark. */
export function colourOf(event: Event): string {
  if (event.kind.startsWith("set_point")) return "--ink";
  if (["valve_sticks", "valve_fails", "sensor_fails", "limit_moves"].includes(event.kind)) return "--limit";
  if (["to_manual", "to_automatic", "output_step"].includes(event.kind)) return "--op";
  return "--dv";
}

/** An event of a kind with values that are worth seeing; a channel has its samples from the record. */
export async function fresh(
  kind: Event["kind"],
  trial: Trial,
  channel: { tag: string; interval: number; values: number[]; unit?: string | null } | null,
): Promise<Event> {
  const event = await answered(
    api.POST("/api/v1/scenarios/event", { body: { trial, kind, unit: channel?.unit ?? null } }),
  );
  return Object.assign(event, channel ?? {});
}

/** The numbers of an event that can be set. */
export function fieldsOf(
  event: Event,
  index: number,
  trial: Trial,
  description: Description | null,
  edit: (change: (event: Event) => void) => void,
): Field[] {
  const { duration } = trial.scenario;
  const pvUnit = trial.plant.pv.span.unit;
  const field = (name: string, label: string, unit: string, limits: Partial<Field> = {}): Field => ({
    key: `${index} ${name}`,
    label,
    unit,
    value: ((event as unknown as Record<string, number | null>)[name] ?? null) as number | null,
    set: limits.whenEmpty
      ? (value) => edit((next) => Object.assign(next, { [name]: value }))
      : whenGiven((value) => edit((next) => Object.assign(next, { [name]: value }))),
    ...rangeIn(`Event ${event.kind}`, name),
    ...limits,
  });
  const fields = [field("at", "At", "s", { max: duration })];
  if ("by" in event) {
    const words: Partial<Record<Event["kind"], string>> = {
      load_sine: "Amplitude",
      load_walk: "After an hour, std. dev.",
    };
    const unit = event.kind.startsWith("set_point")
      ? pvUnit
      : event.kind === "output_step"
        ? "%"
        : loadUnit(event, description);
    fields.push(field("by", words[event.kind] ?? "By", unit));
  }
  if (event.kind === "parameter_change")
    fields.push(field("to", "To", parameterUnit(event.parameter, description)));
  if (event.kind === "limit_moves") fields.push(field("to", "To", spanOf(trial, event.cv).unit));
  if ("period" in event) fields.push(field("period", "Period", "s"));
  if ("over" in event) fields.push(field("over", "Within", "s"));
  const isEndless = event.kind === "load_sine" || event.kind === "load_walk";
  if ("lasts" in event || isEndless)
    fields.push(field("lasts", "For", "s", isEndless ? { whenEmpty: "to the end" } : {}));
  return fields;
}
