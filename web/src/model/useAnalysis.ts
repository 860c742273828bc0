/** Analyses and curves of models, fetched once each: a model never changes. */
import { shallowReactive, watch } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import { comebacks } from "../lib/live";

type Analysis = Schemas["Analysis"];

const analyses = shallowReactive(new Map<string, Analysis>());
const failures = shallowReactive(new Map<string, string>());
const underWay = new Set<string>();
// What failed is asked again when it is looked at.
watch(comebacks, () => failures.clear());

export function analysisOf(id: string | undefined): Analysis | null {
  if (!id) return null;
  const known = analyses.get(id);
  if (known) return known;
  if (!underWay.has(id) && !failures.has(id)) {
    underWay.add(id);
    answered(api.GET("/api/v1/models/{id}/analysis", { params: { path: { id } } }))
      .then((analysis) => analyses.set(id, analysis))
      .catch((error: unknown) => failures.set(id, messageOf(error)))
      .finally(() => underWay.delete(id));
  }
  return null;
}

export function failureOf(id: string | undefined): string {
  return (id && failures.get(id)) || "";
}
