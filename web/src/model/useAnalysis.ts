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

/** What is said of an output of a model; of the first one where none is named. */
export function analysisOf(id: string | undefined, output: string | null = null): Analysis | null {
  if (!id) return null;
  const key = keyOf(id, output);
  const known = analyses.get(key);
  if (known) return known;
  if (!underWay.has(key) && !failures.has(key)) {
    underWay.add(key);
    const query = output === null ? {} : { output };
    answered(api.GET("/api/v1/models/{id}/analysis", { params: { path: { id }, query } }))
      .then((analysis) => analyses.set(key, analysis))
      .catch((error: unknown) => failures.set(key, messageOf(error)))
      .finally(() => underWay.delete(key));
  }
  return null;
}

export function failureOf(id: string | undefined, output: string | null = null): string {
  return (id && failures.get(keyOf(id, output))) || "";
}

const keyOf = (id: string, output: string | null) => `${id} ${output ?? ""}`;
