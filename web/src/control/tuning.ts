/** Searches for settings in the background: an optimum under demands, or the trade-off. */
import { computed, reactive, ref, shallowRef, type Ref } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import { followed } from "../lib/job";

export type TuningKind = Schemas["TuningKind"];

/** What is asked of the settings; empty fields ask nothing. */
export interface Wishes {
  structure: Schemas["ControllerStructure"];
  objective: "load" | "set_point" | "both" | "scenario";
  max_sensitivity: number | null;
  overshoot: number | null;
  rise_time: number | null;
  settling_time: number | null;
  output_travel: number | null;
  noise_gain: number | null;
  /** Gain and dead time of the plant may be off by so many % either way. */
  off: number | null;
  words: string;
}

export function useTuning(trial: Ref<Trial | null>) {
  const wishes = reactive<Wishes>({
    structure: "pi",
    objective: "load",
    max_sensitivity: 1.6,
    overshoot: null,
    rise_time: null,
    settling_time: null,
    output_travel: null,
    noise_gain: null,
    off: null,
    words: "",
  });
  const optimum = shallowRef<Schemas["TuningOutcome"] | null>(null);
  const tradeOff = shallowRef<Schemas["TuningOutcome"] | null>(null);
  const running = ref<{ id: string; kind: TuningKind } | null>(null);
  const share = ref(0);
  const problem = ref("");
  /** A person has cancelled it. */
  let isGivenUp = false;
  const subject = (of: Trial | null) => JSON.stringify([of?.plant, of?.scenario.scan]);
  const tradedFor = ref("");
  const isTradeOffStale = computed(() => tradeOff.value !== null && tradedFor.value !== subject(trial.value));

  function body(kind: TuningKind): Schemas["TuningRequest"] {
    const { structure, objective, off, words, ...demands } = wishes;
    const factors = off === null ? [] : [1 + off / 100, 1 - off / 100];
    return {
      kind,
      trial: trial.value as Trial,
      structure,
      objective:
        objective === "both"
          ? { both: { load_weight: 0.5 } }
          : objective === "set_point"
            ? "set_point"
            : "load",
      whole_scenario: objective === "scenario",
      demands,
      demands_in_words: words.trim() || null,
      family: factors.map((factor) => ({ gain: factor, time_constant: 1, dead_time: factor })),
    };
  }

  async function run(kind: TuningKind) {
    if (!trial.value || running.value) return;
    problem.value = "";
    share.value = 0;
    isGivenUp = false;
    const asked = subject(trial.value);
    const before = { outcome: tradeOff.value, of: tradedFor.value };
    try {
      const request = body(kind);
      const state = await followed(
        () => answered(api.POST("/api/v1/tunings", { body: request })),
        (id) => answered(api.GET("/api/v1/tunings/{id}", { params: { path: { id } } })),
        (now) => {
          running.value = { id: now.id, kind };
          share.value = now.share;
          // Curves are drawn as they come.
          if (kind === "trade_off" && now.outcome) [tradeOff.value, tradedFor.value] = [now.outcome, asked];
        },
        () => isGivenUp,
      );
      if (!state.outcome || state.stage === "failed")
        problem.value = state.problem?.detail ?? "The search failed.";
      else if (kind === "trade_off") {
        [before.outcome, before.of] = [state.outcome, asked];
      } else optimum.value = state.outcome;
    } catch (error) {
      problem.value = messageOf(error);
    } finally {
      // What did not come to its end gives way to what was there.
      if (kind === "trade_off") [tradeOff.value, tradedFor.value] = [before.outcome, before.of];
      running.value = null;
    }
  }

  async function cancel() {
    isGivenUp = true;
    if (running.value)
      await answered(
        api.DELETE("/api/v1/tunings/{id}", { params: { path: { id: running.value.id } } }),
      ).catch(() => undefined);
  }

  return { wishes, optimum, tradeOff, isTradeOffStale, running, share, problem, run, cancel };
}
