import { shallowReactive } from "vue";
import { answered, api, type Schemas, type TrialResult } from "../api/client";

/** Traces of the trail, fetched once: the same trial always gives the same trace. */
const traces = shallowReactive(new Map<string, TrialResult>());
const underWay = new Set<string>();

export function traceOf(id: string): TrialResult | null {
  const known = traces.get(id);
  if (known) return known;
  if (!underWay.has(id)) {
    underWay.add(id);
    answered(api.GET("/api/v1/trials/{id}/trace", { params: { path: { id }, query: {} } }))
      .then((result) => traces.set(id, result))
      .catch(() => undefined)
      .finally(() => underWay.delete(id));
  }
  return null;
}

const axes = new WeakMap<Schemas["Trace"], number[]>();

/** The times of the values of a trace, s: the same list for the same trace. */
export function timesOf(trace: Schemas["Trace"]): number[] {
  let times = axes.get(trace);
  if (!times) {
    times = (trace.columns[0]?.values ?? []).map((_, k) => k * trace.scan);
    axes.set(trace, times);
  }
  return times;
}
