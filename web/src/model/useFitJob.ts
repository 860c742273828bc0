/** The fit of a loop as a job of the server: how far it is, the best so far, and its end. */
import { ref, type Ref } from "vue";
import { answered, api, ApiError, type ModelRow, type Schemas } from "../api/client";
import { followed } from "../lib/job";

type FitState = Schemas["FitState"];

interface FitJob {
  /** How it stands; null where none is under way. */
  state: Ref<FitState | null>;
  /** Follows a fit to its end; nothing where it was cancelled. */
  follow: (body: Schemas["IdentifyRequest"]) => Promise<ModelRow | null>;
  cancel: () => void;
}

/** By loop: a fit goes on, and is found again, when the step is left meanwhile. */
const known = new Map<string, FitJob>();

export function useFitJob(tag: string): FitJob {
  const job = known.get(tag) ?? newJob(tag);
  known.set(tag, job);
  return job;
}

function newJob(tag: string): FitJob {
  const state = ref<FitState | null>(null);
  let isGivenUp = false;

  function end(id: string) {
    void api.DELETE("/api/v1/fits/{id}", { params: { path: { id } } });
  }

  async function follow(body: Schemas["IdentifyRequest"]): Promise<ModelRow | null> {
    isGivenUp = false;
    try {
      const ended = await followed(
        () => answered(api.POST("/api/v1/loops/{tag}/fits", { params: { path: { tag } }, body })),
        (id) => answered(api.GET("/api/v1/fits/{id}", { params: { path: { id } } })),
        (seen) => {
          // Cancelled before it was known by name.
          if (isGivenUp && state.value === null) end(seen.id);
          // What there was stays in sight while nothing newer is told.
          state.value = { ...seen, outcome: seen.outcome ?? state.value?.outcome ?? null };
        },
        () => isGivenUp,
      );
      if (isGivenUp) return null;
      if (ended.problem) {
        const { detail, status, field } = ended.problem;
        throw new ApiError(detail ?? "The fit failed.", status, field ?? undefined);
      }
      return ended.outcome?.model ?? null;
    } finally {
      state.value = null;
    }
  }

  function cancel() {
    isGivenUp = true;
    if (state.value) end(state.value.id);
  }

  return { state, follow, cancel };
}
