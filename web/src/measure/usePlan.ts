/** An experiment being planned: the draft, and the plan that the server makes of it. */
import { ref, watch, type Ref } from "vue";
import { answered, api, isAbort, messageOf, type LoopDetail, type Schemas } from "../api/client";
import { comebacks } from "../lib/live";
import { saveFile } from "../lib/stripPicture";

type Spec = Schemas["ExperimentSpec"];

/** Round numbers to begin with, out of what is known of the loop. */
export function firstSpec(tag: string, noise: number | null): Promise<Spec> {
  const params = { path: { tag }, query: noise === null ? {} : { noise } };
  return answered(api.GET("/api/v1/loops/{tag}/experiments/first", { params }));
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
export function saveAsCsv(plan: Schemas["ExperimentPlan"], { tag, op, pv }: LoopDetail) {
  const rows = plan.times.map((time, k) => `${time},${plan.op[k]},${plan.pv[k]}`);
  const text = [`time [s],${op.tag} [%],${pv.tag} [${pv.span.unit}]`, ...rows].join("\n");
  saveFile(`${tag} experiment`, "csv", new Blob([`${text}\n`], { type: "text/csv" }));
}
