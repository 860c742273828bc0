/** What the criteria of a proving set are called, and what else can be measured, as the core says it. */
import { shallowRef, watch } from "vue";
import { answered, api, type Schemas } from "../api/client";
import { comebacks } from "../lib/live";
import { plain } from "../lib/plain";
import { inWords } from "../lib/structures";
import type { Criterion, ProvingSet } from "./proof";

const keyOf = ({ figure, of }: Criterion) => JSON.stringify([figure, of ?? null]);

export function useWords(plant: () => Schemas["Plant"], set: () => ProvingSet) {
  const figures = shallowRef<Schemas["FigureOffer"][]>([]);
  const told = shallowRef(new Map<string, { title: string; unit: string }>());
  let sent = 0;
  watch(
    // Limits change nothing of it.
    [() => JSON.stringify([plant(), set().disturbances.map((one) => one.criteria.map(keyOf))]), comebacks],
    async () => {
      const ticket = ++sent;
      const asked = plain(set());
      // What is not told is named after its kind, and asked for again when something changes.
      const body = { plant: plain(plant()), set: asked };
      const words = await answered(api.POST("/api/v1/proofs/words", { body })).catch(() => null);
      if (ticket !== sent || !words) return;
      figures.value = words.figures;
      told.value = new Map(
        asked.disturbances.flatMap((one, d) =>
          one.criteria.map((own, c) => [keyOf(own), words.told[d]?.[c] ?? unnamed(own)] as const),
        ),
      );
    },
    { immediate: true },
  );
  const unnamed = ({ figure }: Criterion) => ({ title: inWords(figure.kind), unit: "" });
  return { figures, toldOf: (own: Criterion) => told.value.get(keyOf(own)) ?? unnamed(own) };
}
