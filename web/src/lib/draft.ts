import { computed, ref, shallowRef, watch, type Ref } from "vue";
import {
  answered,
  api,
  fieldOf,
  isAbort,
  isUnanswered,
  messageOf,
  type Trial,
  type TrialResult,
  type TrialRow,
} from "../api/client";
import { changedPaths } from "./differences";
import { useKept } from "./kept";
import type { LoopContext } from "./loop";
import { useRetry } from "./retry";
import { plain } from "./plain";

/** How long nothing must change before a trial counts as tried and goes to the trail. */
const SETTLED_MS = 900;
/** How long after a row was kept by itself a change of the same number takes its place. */
const PASSING_MS = 20_000;
/** While changes come faster than answers, one is drawn so often. */
const DRAWN_EVERY_MS = 250;
/** An answer that takes longer is not waited for when something newer is asked. */
const PATIENCE_MS = 500;

/** What is edited and stands in no row of the trail yet. */
interface Unsaved {
  trial: Trial;
  base: string | null;
  label: string | null;
  model: string | null;
}

/**
 * The trial being edited: every change is simulated at once, one at a time, and the newest is drawn; what stays unchanged
 * for a moment is kept in the trail, named by what it changed from `base`. What was only passed through makes room.
 */
export function useDraft(loop: LoopContext, base: Ref<TrialRow | null>, select: (id: string) => void) {
  /** Never changed in place: each change is a trial of its own. */
  const draft = shallowRef<Trial | null>(null);
  const result = shallowRef<TrialResult | null>(null);
  const refusal = ref("");
  const refusedField = ref("");
  /** Whether the refusal is only that the server did not answer. */
  const isWaiting = ref(false);
  const simulating = ref(false);
  /** Whether the terms of the balances are wanted. */
  const withBalances = ref(false);
  /** Stays when the step is left, and over a reload. */
  const unsaved = useKept<Unsaved | null>(`draft of ${loop.state.tag}`, () => null);
  let timer = 0;
  let label: string | null = null;
  let modelId: string | null = null;
  /** A person said that just this is to stay. */
  let isMeant = false;
  /** The row that was kept last: that it is shown now was nobody's choice. */
  let keptRow: string | null = null;
  let passed: { id: string; base: string | null; at: number; paths: string } | null = null;

  const isChanged = computed(
    () => draft.value !== null && JSON.stringify(draft.value) !== JSON.stringify(base.value?.trial ?? null),
  );

  /** Changes the draft; `name` stands in the trail in place of the difference. */
  function change(edit: (trial: Trial) => void, name: string | null = null, model: string | null = null) {
    if (!draft.value) return;
    const next = plain(draft.value);
    edit(next);
    adopt(next, name, model ?? modelId);
  }

  function adopt(trial: Trial, name: string | null, model: string | null) {
    draft.value = trial;
    label = name;
    modelId = model;
    unsaved.value = { trial, base: base.value?.id ?? null, label, model };
    performance.mark("antistasis-change");
    void simulate();
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void keep(), SETTLED_MS);
  }

  watch(withBalances, (wanted) => wanted && void simulate());

  // --- one simulation at a time; of what comes meanwhile the newest is next ---

  let underWay: Promise<void> | null = null;
  let isNewer = false;
  let drawnAt = 0;
  let aborter = new AbortController();
  let begunAt = 0;

  function simulate(): Promise<void> {
    if (!draft.value) return Promise.resolve();
    if (underWay) {
      isNewer = true;
      if (performance.now() - begunAt > PATIENCE_MS) aborter.abort();
      return underWay;
    }
    underWay = simulateAll().finally(() => {
      underWay = null;
      simulating.value = false;
    });
    return underWay;
  }

  async function simulateAll() {
    simulating.value = true;
    do {
      isNewer = false;
      aborter = new AbortController();
      begunAt = performance.now();
      try {
        // The key that was pressed gets its frame before a request is put together.
        await new Promise((resolve) => setTimeout(resolve));
        isNewer = false;
        const answer = await answered(
          api.POST("/api/v1/simulate", {
            params: { query: { balances: withBalances.value } },
            body: draft.value as Trial,
            signal: aborter.signal,
          }),
        );
        if (isNewer && performance.now() - drawnAt < DRAWN_EVERY_MS) continue;
        drawnAt = performance.now();
        result.value = answer;
        [refusal.value, refusedField.value, isWaiting.value] = ["", "", false];
      } catch (error) {
        if (isAbort(error)) {
          isNewer = true;
          continue;
        }
        refusal.value = messageOf(error);
        refusedField.value = fieldOf(error);
        isWaiting.value = isUnanswered(error);
      }
      // The hand goes first: what is drawn gets its frame before the next is asked.
      if (isNewer) await new Promise((resolve) => requestAnimationFrame(resolve));
    } while (isNewer);
  }

  /** Starts from a row of the trail; or from what was being edited when the step was left. */
  watch(
    () => base.value?.id,
    (id, before) => {
      if (draft.value === null && unsaved.value && unsaved.value.base === (base.value?.id ?? null)) {
        ({ label, model: modelId } = unsaved.value);
        draft.value = plain(unsaved.value.trial);
        void simulate();
        return;
      }
      if (!base.value || JSON.stringify(base.value.trial) === JSON.stringify(draft.value)) return;
      // Nobody chose another row: what was kept is shown a moment later, or the one before has made room, or was deleted.
      // What was typed meanwhile stays.
      const isOwn = id === keptRow;
      keptRow = null;
      const isGone = before !== undefined && !loop.state.trials.some((row) => row.id === before);
      if (unsaved.value && (isOwn || isGone)) {
        unsaved.value = { ...unsaved.value, base: id ?? null };
        return;
      }
      draft.value = plain(base.value.trial);
      unsaved.value = null;
      label = null;
      modelId = base.value.model_id ?? null;
      void simulate();
    },
    { immediate: true },
  );

  useRetry(
    () => isWaiting.value,
    async () => {
      await simulate();
      if (isChanged.value) await keep();
    },
  );

  /** The next keeping is meant: its row stays, whatever comes after. */
  function mean() {
    isMeant = true;
  }

  /** Puts the draft into the trail; one that is there already is only selected. */
  async function keep() {
    window.clearTimeout(timer);
    // A refusal may be of what stood there before: the answer to what stands there now is waited for.
    await underWay;
    if (!draft.value || !isChanged.value || refusal.value) return;
    const trial = plain(draft.value);
    const kept = JSON.stringify(trial);
    const before = passed && base.value?.id === passed.id ? passed : null;
    const origin = loop.state.trials.find((row) => row.id === before?.base)?.trial ?? null;
    const paths = origin ? changedPaths(origin, trial).join() : "";
    const isOnTheWay =
      before !== null && label === null && paths === before.paths && Date.now() - before.at < PASSING_MS;
    const from = isOnTheWay ? before.base : (base.value?.id ?? null);
    const ownPaths = isOnTheWay ? paths : changedPaths(base.value?.trial ?? null, trial).join();
    const stays = isMeant;
    isMeant = false;
    try {
      const row = await answered(
        api.POST("/api/v1/loops/{tag}/trials", {
          params: { path: { tag: loop.state.tag } },
          body: {
            trial,
            model_id: modelId,
            changed_from: from,
            label,
            replaces: isOnTheWay ? before.id : null,
          },
        }),
      );
      passed = stays || label !== null ? null : { id: row.id, base: from, at: Date.now(), paths: ownPaths };
      if (JSON.stringify(draft.value) === kept) unsaved.value = null;
      keptRow = row.id;
      await loop.refreshTrials();
      // Whoever typed on meanwhile is not thrown back.
      if (JSON.stringify(draft.value) === kept) select(row.id);
    } catch (error) {
      refusal.value = messageOf(error);
      isWaiting.value = isUnanswered(error);
    }
  }

  return {
    draft,
    result,
    refusal,
    refusedField,
    isWaiting,
    simulating,
    withBalances,
    isChanged,
    change,
    adopt,
    mean,
    keep,
    simulate,
  };
}
