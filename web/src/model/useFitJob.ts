/** A fit as a job of the server: how far it is, the best so far, and its end. */
import { onUnmounted, ref } from "vue";
import { answered, api, ApiError, type ModelRow, type Schemas } from "../api/client";
import { followed } from "../lib/job";

type FitState = Schemas["FitState"];

export function useFitJob() {
  const state = ref<FitState | null>(null);
  let isGivenUp = false;

  /** Follows a fit to its end; nothing where it was cancelled. */
  async function follow(tag: string, body: Schemas["IdentifyRequest"]): Promise<ModelRow | null> {
    isGivenUp = false;
    const begin = () => answered(api.POST("/api/v1/loops/{tag}/fits", { params: { path: { tag } }, body }));
    const look = (id: string) => answered(api.GET("/api/v1/fits/{id}", { params: { path: { id } } }));
    try {
      const ended = await followed(
        begin,
        look,
        (seen) => {
          // What there was stays in sight while nothing newer is told.
          const outcome = seen.outcome ?? state.value?.outcome ?? null;
          state.value = { ...seen, outcome };
        },
        () => isGivenUp,
      );
      if (isGivenUp) return null;
      if (ended.problem)
        throw new ApiError(
          ended.problem.detail ?? "The fit failed.",
          ended.problem.status,
          ended.problem.field ?? undefined,
        );
      return ended.outcome?.model ?? null;
    } finally {
      state.value = null;
    }
  }

  function cancel() {
    isGivenUp = true;
    const id = state.value?.id;
    if (id) void api.DELETE("/api/v1/fits/{id}", { params: { path: { id } } });
  }
  // Who leaves does not wait for it any more.
  onUnmounted(cancel);

  return { state, follow, cancel };
}
