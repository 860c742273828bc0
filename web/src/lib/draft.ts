import { computed, ref, shallowRef, watch, type Ref } from "vue";
import {
  answered,
  api,
  isAbort,
  messageOf,
  type Trial,
  type TrialResult,
  type TrialRow,
} from "../api/client";
import type { LoopContext } from "./loop";

/** How long nothing must change before a trial counts as tried and goes to the trail. */
const SETTLED_MS = 900;

/**
 * The trial being edited: every change is simulated at once, the newest answer wins; what stays unchanged for a moment is
 * kept in the trail, named by what it changed from `base`.
 */
export function useDraft(loop: LoopContext, base: Ref<TrialRow | null>, select: (id: string) => void) {
  const draft = ref<Trial | null>(null);
  const result = shallowRef<TrialResult | null>(null);
  const refusal = ref("");
  const refusedField = ref("");
  const simulating = ref(false);
  /** Whether the terms of the balances are wanted. */
  const withBalances = ref(false);
  let sent = 0;
  let aborter = new AbortController();
  let timer = 0;
  let label: string | null = null;
  let modelId: string | null = null;

  const isChanged = computed(
    () => draft.value !== null && JSON.stringify(draft.value) !== JSON.stringify(base.value?.trial ?? null),
  );

  /** Starts from a row of the trail. */
  watch(
    () => base.value?.id,
    () => {
      if (!base.value || JSON.stringify(base.value.trial) === JSON.stringify(draft.value)) return;
      draft.value = structuredClone(plain(base.value.trial));
      label = null;
      modelId = base.value.model_id ?? null;
      void simulate();
    },
    { immediate: true },
  );

  /** Changes the draft; `name` stands in the trail in place of the difference. */
  function change(edit: (trial: Trial) => void, name: string | null = null, model: string | null = null) {
    if (!draft.value) return;
    const next = structuredClone(plain(draft.value));
    edit(next);
    adopt(next, name, model ?? modelId);
  }

  function adopt(trial: Trial, name: string | null, model: string | null) {
    draft.value = trial;
    label = name;
    modelId = model;
    performance.mark("antistasis-change");
    void simulate();
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void keep(), SETTLED_MS);
  }

  watch(withBalances, (wanted) => wanted && void simulate());

  async function simulate() {
    if (!draft.value) return;
    aborter.abort();
    aborter = new AbortController();
    const ticket = ++sent;
    simulating.value = true;
    try {
      const answer = await answered(
        api.POST("/api/v1/simulate", {
          params: { query: { balances: withBalances.value } },
          body: draft.value,
          signal: aborter.signal,
        }),
      );
      if (ticket !== sent) return;
      result.value = answer;
      refusal.value = "";
      refusedField.value = "";
    } catch (error) {
      if (ticket !== sent || isAbort(error)) return;
      refusal.value = messageOf(error);
      refusedField.value = (error as { field?: string }).field ?? "";
    } finally {
      if (ticket === sent) simulating.value = false;
    }
  }

  /** Puts the draft into the trail; one that is there already is only selected. */
  async function keep() {
    window.clearTimeout(timer);
    if (!draft.value || !isChanged.value || refusal.value) return;
    const kept = JSON.stringify(draft.value);
    try {
      const row = await answered(
        api.POST("/api/v1/loops/{tag}/trials", {
          params: { path: { tag: loop.state.tag } },
          body: { trial: draft.value, model_id: modelId, changed_from: base.value?.id ?? null, label },
        }),
      );
      await loop.refreshTrials();
      // Whoever typed on meanwhile is not thrown back.
      if (JSON.stringify(draft.value) === kept) select(row.id);
    } catch (error) {
      refusal.value = messageOf(error);
    }
  }

  return {
    draft,
    result,
    refusal,
    refusedField,
    simulating,
    withBalances,
    isChanged,
    change,
    adopt,
    keep,
    simulate,
  };
}

/** A copy without Vue's proxies. */
function plain<T>(value: T): T {
  return JSON.parse(JSON.stringify(value)) as T;
}
