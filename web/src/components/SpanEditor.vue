<script setup lang="ts">
/** The span of the PV, on which every gain in % depends. */
import { computed, inject, ref } from "vue";
import { ApiError, fieldOf, messageOf } from "../api/client";
import { whenGiven, type Field } from "../lib/field";
import { useKept } from "../lib/kept";
import { useLoop } from "../lib/loop";
import { cardOf, changeLoop, EDIT_LOOP } from "../works/loops";
import FieldList from "./FieldList.vue";
import ProblemNote from "./ProblemNote.vue";

const { state, refreshDetail } = useLoop();
const edit = inject(EDIT_LOOP, () => undefined);
const kept = computed(() => state.detail?.pv.span ?? { low: 0, high: 100, unit: "" });
/** What is typed and not kept yet, over what is kept. */
const typed = useKept<Partial<{ low: number; high: number; unit: string }>>(
  `span of ${state.tag}`,
  () => ({}),
);
const span = computed(() => ({ ...kept.value, ...typed.value }));
const problem = ref("");
const field = ref("");
const isOverruled = ref(false);

async function keep(force = false) {
  const detail = state.detail;
  if (!detail) return;
  const { low, high, unit } = span.value;
  if (low === kept.value.low && high === kept.value.high && unit === kept.value.unit && !detail.span_is_guess)
    return;
  if (Object.keys(typed.value).length === 0) return;
  [problem.value, field.value, isOverruled.value] = ["", "", false];
  try {
    const card = cardOf(detail);
    card.pv.span = { low, high, unit };
    state.detail = await changeLoop(state.tag, detail.revision, { area: detail.area, card }, force);
    typed.value = {};
  } catch (error) {
    problem.value = messageOf(error);
    field.value = fieldOf(error);
    if (error instanceof ApiError && error.current) {
      isOverruled.value = true;
      await refreshDetail().catch(() => undefined);
      const now = kept.value;
      problem.value = `Somebody else has set the span to ${now.low} to ${now.high} ${now.unit} meanwhile; yours is ${low} to ${high} ${unit}.`;
    }
  }
}

function takeTheirs() {
  typed.value = {};
  [problem.value, isOverruled.value] = ["", false];
}

function fieldFor(end: "low" | "high", label: string, range?: string): Field {
  const set = whenGiven((value) => (typed.value = { ...typed.value, [end]: value }));
  const own = field.value === `pv.span.${end}` ? problem.value : "";
  return { key: end, label, unit: span.value.unit, range, value: span.value[end], set, problem: own };
}

const fields = computed(() => [
  fieldFor("low", "Lower range value"),
  fieldFor("high", "Upper range value", `above ${span.value.low}`),
]);
</script>

<template>
  <fieldset class="grid gap-2">
    <legend class="mb-1 flex w-full items-baseline gap-2 font-semibold">
      Span of {{ state.detail?.pv.tag }}
      <button
        type="button"
        class="ml-auto text-[12.5px] font-normal underline decoration-rule underline-offset-2"
        @click="edit()"
      >
        all of the loop …
      </button>
    </legend>
    <p v-if="state.detail?.span_is_guess" class="border-l-[3px] border-caution pl-3">
      △ Taken from the data: put in the range of the transmitter, every gain in % depends on it.
    </p>
    <FieldList :fields="fields" @settled="keep()" />
    <label class="grid grid-cols-[1fr_158px] items-center gap-2">
      Unit
      <input
        class="entry text-right"
        maxlength="24"
        :value="span.unit"
        @change="((typed = { ...typed, unit: ($event.target as HTMLInputElement).value.trim() }), keep())"
      />
    </label>
    <ProblemNote v-if="!field || isOverruled" :text="problem" />
    <div v-if="isOverruled" class="flex gap-2">
      <button type="button" class="button" @click="takeTheirs">Take theirs</button>
      <button type="button" class="button" @click="keep(true)">Keep mine in its place</button>
    </div>
  </fieldset>
</template>
