/** A sweep over one number of a trial or two: what can be varied, how far it is, what came out. */
import { computed, reactive, ref, shallowRef, watch, type Ref } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import { followed } from "../lib/job";
import { allMetricsFor } from "../lib/comparison";
import { readable } from "./events";

/** A number that can be varied. */
export type Target = Schemas["SweepTarget"];

/** Every number of a trial that can be varied, by where it belongs: the server knows them. */
function useTargets(trial: Ref<Trial | null>) {
  const targets = shallowRef<Target[]>([]);
  let timer = 0;
  watch(
    () => (trial.value ? JSON.stringify(trial.value) : ""),
    (text) => {
      window.clearTimeout(timer);
      if (!text) return;
      timer = window.setTimeout(
        () => {
          answered(api.POST("/api/v1/sweeps/targets", { body: JSON.parse(text) as Trial }))
            .then((found) => (targets.value = found))
            .catch(() => undefined);
        },
        targets.value.length ? 300 : 0,
      );
    },
    { immediate: true },
  );
  const groups = computed(() =>
    [
      ["candidate", "Candidate"],
      ["process", "Process"],
      ["plant", "Instruments and start"],
      ["scenario", "Scenario"],
    ]
      .map(([key, group]) => ({
        group: group as string,
        targets: targets.value.filter((target) => target.group === key),
      }))
      .filter((group) => group.targets.length > 0),
  );
  return { targets, groups };
}

export interface AxisChoice {
  pointer: string;
  from: number;
  to: number;
  count: number;
  by_ratio: boolean;
}

/** A range about a value that is worth a look: only values that can be. */
export function rangeAbout(target: Target, count: number): AxisChoice {
  const { pointer, value } = target;
  const [low, high] = [target.low ?? -Infinity, target.high ?? Infinity];
  const clamped = (number: number) => Math.min(Math.max(number, low), high);
  if (target.whole) {
    const from = clamped(Math.max(1, Math.floor(value / 2)));
    const to = clamped(Math.max(from + 1, Math.ceil(value * 2)));
    return { pointer, from, to, count: Math.min(count, to - from + 1), by_ratio: false };
  }
  const round = (number: number) => clamped(Number(number.toPrecision(3)));
  return value > 0
    ? { pointer, from: round(value / 2), to: round(value * 2), count, by_ratio: true }
    : value < 0
      ? { pointer, from: round(2 * value), to: round(value / 2), count, by_ratio: false }
      : {
          pointer,
          from: round(0),
          to: /learning_gain|leakage/.test(pointer) ? 0.1 : round(10),
          count,
          by_ratio: false,
        };
}

/** Of a whole number no more values than there are between the ends. */
export function mostValues(target: Target | undefined, axis: AxisChoice): number {
  return target?.whole ? Math.max(2, Math.round(Math.abs(axis.to - axis.from)) + 1) : 1000;
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
  const { targets, groups } = useTargets(trial);
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
  /** A person has cancelled it. */
  let isGivenUp = false;

  /** Whether the trial has changed since. */
  const isStale = computed(
    () => outcome.value !== null && swept.value !== JSON.stringify([trial.value, axes, question]),
  );

  async function run() {
    if (!trial.value || axes.length === 0) return;
    problem.value = "";
    share.value = 0;
    isGivenUp = false;
    const asked = JSON.stringify([trial.value, axes, question]);
    const chosen = axes.map((axis) => ({ ...axis }));
    try {
      const body = { trial: trial.value, axes: chosen, question: question.tag ? { ...question } : null };
      const state = await followed(
        () => answered(api.POST("/api/v1/sweeps", { body })),
        (id) => answered(api.GET("/api/v1/sweeps/{id}", { params: { path: { id } } })),
        (now) => ([running.value, share.value] = [now.id, now.share]),
        () => isGivenUp,
      );
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
    isGivenUp = true;
    if (running.value)
      await answered(api.DELETE("/api/v1/sweeps/{id}", { params: { path: { id: running.value } } })).catch(
        () => undefined,
      );
  }

  return {
    targets,
    groups,
    axes,
    metric,
    question,
    outcome,
    sweptAxes,
    share,
    running,
    problem,
    isStale,
    run,
    cancel,
  };
}
