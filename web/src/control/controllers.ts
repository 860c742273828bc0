/** The kinds of controllers: names, and settings to begin with. */
import { answered, api, type Schemas, type Trial } from "../api/client";

export type Controller = Schemas["ControllerSpec"];
export type Pid = Schemas["PidSettings"];
export type Kind = Controller["kind"];

export const KINDS: { value: Kind; title: string }[] = [
  { value: "pid", title: "PID" },
  { value: "smith", title: "Smith predictor" },
  { value: "cascade", title: "cascade" },
  { value: "model_reference", title: "model-reference adaptive" },
  { value: "self_tuning", title: "self-tuning" },
  { value: "relay", title: "relay experiment" },
  { value: "manual", title: "manual" },
];

/** The PID settings that a controller works with: of a cascade, those of the outer controller. */
export function mainPid(controller: Controller): Pid | null {
  switch (controller.kind) {
    case "pid":
      return controller;
    case "smith":
      return controller.pid;
    case "cascade":
      return controller.outer;
    default:
      return null;
  }
}

/** The low-order process that rules and predictors go by. */
export async function processOf(trial: Trial): Promise<Schemas["LinearSpec"]> {
  return (await answered(api.POST("/api/v1/tune/rules", { body: { plant: trial.plant } }))).process;
}

const round = (value: number) => Number(value.toPrecision(3));

function lagOf(process: Schemas["LinearSpec"]): number {
  if ("time_constant" in process) return process.time_constant;
  return "time_constant_1" in process ? process.time_constant_1 + process.time_constant_2 : process.dead_time;
}

/** A process with its numbers to four digits, as one types them in. */
function rounded(process: Schemas["LinearSpec"]): Schemas["LinearSpec"] {
  const entries = Object.entries(process).map(([name, value]) => [
    name,
    typeof value === "number" ? Number(value.toPrecision(4)) : value,
  ]);
  return Object.fromEntries(entries) as Schemas["LinearSpec"];
}

/** Settings of another kind to begin with, from those that there are. */
export async function beginWith(
  kind: Kind,
  trial: Trial,
  description: Schemas["Description"] | null,
): Promise<Controller> {
  const before = mainPid(trial.candidate.controller);
  const { scan } = trial.scenario;
  if (kind === "manual") return { kind };
  if (kind === "pid" && before) return { ...before, kind };
  if (kind === "cascade") {
    const measured = trial.plant.measured ?? description?.outputs[0]?.name;
    const between = description?.outputs.find((output) => output.name !== measured);
    if (!between) throw new Error("A cascade needs a second output of the process, and this one has none.");
    const outer: Pid = before ?? { gain: 1, integral_time: 60 };
    const at = between.value;
    return {
      kind,
      outer,
      inner: { gain: 2, integral_time: round(Math.max(2 * scan, (outer.integral_time ?? 60) / 5)) },
      signal: between.name,
      span: {
        low: Math.min(0, round(2 * at)),
        high: round(Math.max(1, 4 * Math.abs(at))),
        unit: between.unit,
      },
    };
  }
  const process = await processOf(trial);
  const action = process.gain < 0 ? "direct" : "reverse";
  const span = trial.plant.pv.span;
  const percent = 100 / (span.high - span.low);
  const [lag, dead] = [Math.max(lagOf(process), scan), process.dead_time];
  const integrates = process.structure === "integrating" || process.structure === "integrating_lag";
  const pid: Pid = before ?? { gain: 1, integral_time: round(lag), action };
  switch (kind) {
    case "pid":
      return { ...pid, kind };
    case "smith": {
      // SIMC without the dead time, with a closed-loop time constant of half of it.
      const tc = Math.max(0.5 * dead, 2 * scan);
      const gain = integrates
        ? 1 / (Math.abs(process.gain) * percent * (tc + dead))
        : lag / (Math.abs(process.gain) * percent * tc);
      const integral = integrates ? 4 * (tc + dead) : Math.min(lag, 8 * tc);
      return {
        kind,
        pid: { ...pid, derivative_time: 0, gain: round(gain), integral_time: round(integral), action },
        model: rounded(process),
        filter_time: integrates ? round(dead) : 0,
      };
    }
    case "model_reference": {
      const time = round(Math.max(lag / 2, 4 * dead));
      return {
        kind,
        reference_time_constant: time,
        learning_gain: 0,
        normalised: true,
        bound: 50,
        start: {
          set_point: round(lag / (Math.abs(process.gain) * percent * time)),
          measurement: round((lag / time - 1) / (Math.abs(process.gain) * percent)),
        },
        action,
      };
    }
    case "self_tuning":
      return {
        kind,
        dead_time: round(dead),
        identification_time: round(5 * lag + 3 * dead),
        amplitude: 3,
        clock: round(Math.max(lag / 4, scan)),
        closed_loop_time_constant: round(Math.max(lag / 2, dead / 2)),
        action,
      };
    case "relay":
      return {
        kind,
        amplitude: 5,
        hysteresis: round(Math.max(0.1, 3 * (trial.plant.sensor?.noise ?? 0) * percent)),
        action,
      };
    default:
      return { ...pid, kind: "pid" };
  }
}

/** A scenario for a relay experiment: nothing else moves, and there is time for a dozen swings. */
export async function experimentFor(trial: Trial): Promise<Trial["scenario"]> {
  const process = await processOf(trial);
  const time = 40 * process.dead_time + 3 * lagOf(process) + 60 * trial.scenario.scan;
  return {
    ...trial.scenario,
    events: [],
    duration: Math.ceil(time / trial.scenario.scan) * trial.scenario.scan,
  };
}
