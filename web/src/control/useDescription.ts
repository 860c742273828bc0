import { ref, shallowRef, watch, type Ref } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import { comebacks } from "../lib/live";
import { fetchedOnce } from "../lib/once";

/** All that can be simulated. */
export const { use: useOffers } = fetchedOnce(() => answered(api.GET("/api/v1/processes")));

/** What the process of a trial says of itself; asked for again when the process changes. */
export function useDescription(trial: Ref<Trial | null>) {
  const description = shallowRef<Schemas["Description"] | null>(null);
  const failure = ref("");
  let sent = 0;
  watch(
    [
      () => (trial.value ? JSON.stringify([trial.value.plant.process, trial.value.plant.pv.span.unit]) : ""),
      comebacks,
    ],
    async ([now]) => {
      if (!now || !trial.value) return;
      const ticket = ++sent;
      const { process, pv } = trial.value.plant;
      try {
        const answer = await answered(
          api.POST("/api/v1/processes/describe", { body: { process, pv_unit: pv.span.unit } }),
        );
        if (ticket !== sent) return;
        description.value = answer;
        failure.value = "";
      } catch (error) {
        if (ticket === sent) failure.value = messageOf(error);
      }
    },
    { immediate: true },
  );
  return { description, failure };
}
