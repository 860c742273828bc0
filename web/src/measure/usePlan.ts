/** An experiment being planned: the draft, and the plan that the server makes of it. */
import { ref, watch, type Ref } from "vue";
import {
  answered,
  api,
  isAbort,
  messageOf,
  type LoopDetail,
  type ModelRow,
  type Schemas,
} from "../api/client";
import { comebacks } from "../lib/live";

type Spec = Schemas["ExperimentSpec"];

/** Round numbers to begin with, out of what is known of the loop. */
export function firstSpec(detail: LoopDetail, models: ModelRow[], noise: number | null): Spec {
  const { pv, op } = detail;
  const width = pv.span.high - pv.span.low;
  const known = models.find((row) => row.chosen && row.model.structure.kind === "fopdt")?.model;
  const of = (name: string) => known?.parameters.find((parameter) => parameter.name === name)?.value;
  const round = (value: number) => Number(value.toPrecision(2));
  const tau = round(of("time_constant") ?? 60);
  const theta = round(of("dead_time") ?? 15);
  const rest = {
    pv: Number((known?.operating.pv ?? pv.span.low + 0.5 * width).toPrecision(3)),
    op: Math.round(known?.operating.op ?? 0.5 * (op.span.low + op.span.high)),
  };
  const settling = theta + 4 * tau;
  const sample = round(Math.max(settling / 150, 0.1));
  const swing = 0.05 * width;
  return {
    process: {
      structure: "fopdt",
      gain: round(of("gain") ?? width / 100),
      time_constant: tau,
      dead_time: theta,
    },
    gain_uncertainty: 30,
    noise: round(noise && noise > 0 ? noise : 0.001 * width),
    operating_point: rest,
    pv_range: [round(rest.pv - swing), round(rest.pv + swing)],
    op_range: [Math.max(0, rest.op - 25), Math.min(100, rest.op + 25)],
    op_rate: null,
    sample_time: sample,
    duration: round(10 * settling),
    amplitude: null,
    signal: { kind: "doublet", width: null },
    seed: 1,
    pv_unit: pv.span.unit,
  };
}

export function usePlan(spec: Ref<Spec | null>) {
  const plan = ref<Schemas["ExperimentPlan"] | null>(null);
  const problem = ref("");
  let aborter = new AbortController();
  let waiting = 0;

  async function make(body: Spec) {
    aborter.abort();
    aborter = new AbortController();
    try {
      const { signal } = aborter;
      plan.value = await answered(api.POST("/api/v1/experiments/plan", { body, signal }));
      problem.value = "";
    } catch (error) {
      if (!isAbort(error)) problem.value = messageOf(error);
    }
  }

  watch(
    [spec, comebacks],
    ([body]) => {
      window.clearTimeout(waiting);
      if (body) waiting = window.setTimeout(() => void make(body), plan.value ? 40 : 0);
    },
    { immediate: true, deep: true },
  );
  return { plan, problem };
}

/** The plan as a CSV file: time, OP, expected PV. */
export function saveAsCsv(plan: Schemas["ExperimentPlan"], op: string, pv: string, unit: string) {
  const rows = plan.times.map((time, k) => `${time},${plan.op[k]},${plan.pv[k]}`);
  const text = [`time [s],${op} [%],${pv} [${unit}]`, ...rows].join("\n");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([`${text}\n`], { type: "text/csv" }));
  link.download = "experiment.csv";
  link.click();
  URL.revokeObjectURL(link.href);
}
