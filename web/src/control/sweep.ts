/** A sweep over one number of a trial or two: what can be varied, how far it is, what came out. */
import { computed, reactive, ref, shallowRef, type Ref } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import { allMetricsFor } from "../lib/comparison";
import { describe, readable } from "./events";

type Description = Schemas["Description"];

/** A number that can be varied. */
export interface Target {
  pointer: string;
  title: string;
  unit: string;
  value: number;
}

/** Every number of a trial that is worth a sweep. */
export function targetsOf(
  trial: Trial,
  description: Description | null,
): { group: string; targets: Target[] }[] {
  const target = (
    pointer: string,
    title: string,
    unit: string,
    value: number | null | undefined,
  ): Target[] => (typeof value === "number" ? [{ pointer, title, unit, value }] : []);
  const controller = trial.candidate.controller;
  const ofPid = (place: string, of: Schemas["PidSettings"], name = "") => [
    ...target(`${place}/gain`, `${name}gain`, "%/%", of.gain),
    ...target(`${place}/integral_time`, `${name}integral time`, "s", of.integral_time),
    ...target(`${place}/derivative_time`, `${name}derivative time`, "s", of.derivative_time ?? 0),
    ...target(`${place}/set_point_weight`, `${name}set point weight`, "", of.set_point_weight ?? 1),
    ...target(`${place}/filter_time`, `${name}PV filter`, "s", of.filter_time ?? 0),
    ...target(`${place}/tracking_time`, `${name}tracking time`, "s", of.tracking_time),
  ];
  const candidate = ((): Target[] => {
    const place = "/candidate/controller";
    switch (controller.kind) {
      case "pid":
        return ofPid(place, controller);
      case "smith":
        return [
          ...ofPid(`${place}/pid`, controller.pid),
          ...target(`${place}/model/gain`, "predictor's gain", "PV/%", controller.model.gain),
          ...target(`${place}/model/dead_time`, "predictor's dead time", "s", controller.model.dead_time),
          ...target(`${place}/filter_time`, "prediction filter", "s", controller.filter_time ?? 0),
        ];
      case "cascade":
        return [
          ...ofPid(`${place}/outer`, controller.outer, "outer "),
          ...ofPid(`${place}/inner`, controller.inner, "inner "),
        ];
      case "model_reference":
        return [
          ...target(`${place}/learning_gain`, "learning gain", "1/s", controller.learning_gain),
          ...target(`${place}/leakage`, "leakage", "1/s", controller.leakage ?? 0),
          ...target(`${place}/reference_time_constant`, "reference", "s", controller.reference_time_constant),
        ];
      case "self_tuning":
        return [
          ...target(`${place}/dead_time`, "dead time believed", "s", controller.dead_time),
          ...target(
            `${place}/closed_loop_time_constant`,
            "closed-loop τc",
            "s",
            controller.closed_loop_time_constant,
          ),
          ...target(`${place}/forgetting`, "forgetting factor", "", controller.forgetting ?? 1),
        ];
      default:
        return [];
    }
  })();
  const { process, sensor, actuator } = trial.plant;
  const parameters = (description?.parameters ?? []).flatMap((quantity) => {
    const title = readable(quantity.name);
    if (process.structure === "library")
      return target(
        `/plant/process/parameters/${quantity.name}`,
        title,
        quantity.unit,
        process.parameters?.[quantity.name] ?? quantity.value,
      );
    if (process.structure === "equations") {
      const index = process.parameters?.findIndex((known) => known.name === quantity.name) ?? -1;
      return index < 0
        ? []
        : target(`/plant/process/parameters/${index}/value`, title, quantity.unit, quantity.value);
    }
    return quantity.name in process
      ? target(`/plant/process/${quantity.name}`, title, quantity.unit, quantity.value)
      : [];
  });
  const driven = trial.plant.drive?.input ?? description?.drive.input;
  const inputs = (description?.inputs ?? [])
    .filter((quantity) => quantity.name !== driven)
    .flatMap((quantity) =>
      target(
        `/plant/inputs/${quantity.name}`,
        readable(quantity.name),
        quantity.unit,
        trial.plant.inputs?.[quantity.name] ?? quantity.value,
      ),
    );
  const unit = trial.plant.pv.span.unit;
  const instruments = [
    ...target("/plant/sensor/dead_time", "dead time of the sensor", "s", sensor?.dead_time ?? 0),
    ...target("/plant/sensor/time_constant", "lag of the sensor", "s", sensor?.time_constant ?? 0),
    ...target("/plant/sensor/noise", "noise of the PV", unit, sensor?.noise ?? 0),
    ...target("/plant/sensor/filter", "PV filter", "s", sensor?.filter ?? 0),
    ...(actuator?.kind === "valve"
      ? [
          ...target("/plant/actuator/stick", "valve sticks by", "%", actuator.stick ?? 0),
          ...target("/plant/actuator/dead_band", "dead band of the valve", "%", actuator.dead_band ?? 0),
          ...target("/plant/actuator/stroke_time", "stroke time", "s", actuator.stroke_time ?? 0),
          ...target("/plant/actuator/authority", "authority of the valve", "", actuator.authority ?? 1),
        ]
      : []),
  ];
  const events = trial.scenario.events.flatMap((event, k) =>
    "by" in event ? target(`/scenario/events/${k}/by`, describe(event, unit, description), "", event.by) : [],
  );
  return [
    { group: "Candidate", targets: candidate },
    { group: "Process", targets: parameters },
    { group: "Inputs", targets: inputs },
    { group: "Instruments", targets: instruments },
    {
      group: "Scenario",
      targets: [...events, ...target("/scenario/scan", "scan", "s", trial.scenario.scan)],
    },
  ].filter((group) => group.targets.length > 0);
}

export interface AxisChoice {
  pointer: string;
  from: number;
  to: number;
  count: number;
  by_ratio: boolean;
}

/** A range about a value that is worth a look. */
export function rangeAbout(target: Target, count: number): AxisChoice {
  const { pointer, value } = target;
  const round = (number: number) => Number(number.toPrecision(3));
  return value > 0
    ? { pointer, from: round(value / 2), to: round(value * 2), count, by_ratio: true }
    : value < 0
      ? { pointer, from: round(2 * value), to: round(value / 2), count, by_ratio: false }
      : { pointer, from: 0, to: /learning_gain|leakage/.test(pointer) ? 0.1 : 10, count, by_ratio: false };
}

type Swept = NonNullable<Schemas["SweepOutcome"]["points"][number]["outcome"]>;

/** A number that is read off every trial of a sweep. */
export interface SweptMetric {
  key: string;
  title: string;
  unit: string;
  read: (swept: Swept) => number | null | undefined;
  better: "lower" | "higher";
}

/** What a sweep can be read by: the metrics of the loop, and those of a signal that is measured besides. */
export function sweptMetrics(pvUnit: string, signal: { tag: string; unit: string } | null): SweptMetric[] {
  const loop = allMetricsFor(pvUnit).map((metric): SweptMetric => ({
    ...metric,
    read: (swept) => metric.read(swept.assessment),
  }));
  if (!signal) return loop;
  const of = (
    key: string,
    title: string,
    unit: string,
    read: (answer: Schemas["SignalMetrics"]) => number | null | undefined,
  ): SweptMetric => ({
    key: `signal-${key}`,
    title: `${readable(signal.tag)}: ${title}`,
    unit,
    read: (swept) => (swept.answer ? read(swept.answer) : null),
    better: "lower",
  });
  return [
    ...loop,
    of("mean", "mean", signal.unit, (answer) => answer.mean),
    of("highest", "highest", signal.unit, (answer) => answer.highest),
    of("lowest", "lowest", signal.unit, (answer) => answer.lowest),
    of("deviation", "standard deviation", signal.unit, (answer) => answer.standard_deviation),
    of("travel", "travel", signal.unit, (answer) => answer.travel),
    of("used", "energy or material used", "", (answer) => answer.used?.amount),
    of("outside", "time outside the limits", "s", (answer) => answer.outside?.time),
    of("violations", "violations of the limits", "", (answer) => answer.outside?.violations),
  ];
}

export function useSweep(trial: Ref<Trial | null>) {
  const axes = reactive<AxisChoice[]>([]);
  const metric = ref("iae");
  /** The signal that is measured besides; an empty tag for none. */
  const question = reactive<{ tag: string; low: number | null; high: number | null }>({
    tag: "",
    low: null,
    high: null,
  });
  const outcome = shallowRef<Schemas["SweepOutcome"] | null>(null);
  /** The axes that the outcome belongs to. */
  const sweptAxes = shallowRef<AxisChoice[]>([]);
  const share = ref(0);
  const running = ref<string | null>(null);
  const problem = ref("");
  const swept = ref("");

  /** Whether the trial has changed since. */
  const isStale = computed(
    () => outcome.value !== null && swept.value !== JSON.stringify([trial.value, axes, question]),
  );

  async function run() {
    if (!trial.value || axes.length === 0) return;
    problem.value = "";
    share.value = 0;
    const asked = JSON.stringify([trial.value, axes, question]);
    const chosen = axes.map((axis) => ({ ...axis }));
    try {
      let state = await answered(
        api.POST("/api/v1/sweeps", {
          body: { trial: trial.value, axes: chosen, question: question.tag ? question : null },
        }),
      );
      running.value = state.id;
      while (state.stage === "running") {
        await new Promise((resolve) => setTimeout(resolve, 80));
        state = await answered(api.GET("/api/v1/sweeps/{id}", { params: { path: { id: state.id } } }));
        share.value = state.share;
      }
      if (state.outcome) {
        outcome.value = state.outcome;
        sweptAxes.value = chosen;
        swept.value = asked;
      } else problem.value = state.problem?.detail ?? "The sweep failed.";
    } catch (error) {
      problem.value = messageOf(error);
    } finally {
      running.value = null;
    }
  }

  async function cancel() {
    if (running.value)
      await answered(api.DELETE("/api/v1/sweeps/{id}", { params: { path: { id: running.value } } })).catch(
        () => undefined,
      );
  }

  return { axes, metric, question, outcome, sweptAxes, share, running, problem, isStale, run, cancel };
}
