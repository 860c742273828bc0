<script setup lang="ts">
/** What is to be thought of a model, and the way on. */
import { computed } from "vue";
import type { ModelRow } from "../api/client";
import VerdictNote from "../components/VerdictNote.vue";
import { beginsTrials } from "../lib/structures";

const props = defineProps<{ model: ModelRow }>();
const emit = defineEmits<{ control: [] }>();

const verdicts = computed(() => {
  const all = [...props.model.model.verdicts, ...(props.model.validation?.verdicts ?? [])];
  const order = { bad: 0, caution: 1, good: 2 };
  return all.sort((a, b) => order[a.tone] - order[b.tone]);
});
const isDoubtful = computed(() => verdicts.value.some((verdict) => verdict.tone === "bad"));
</script>

<template>
  <div class="grid gap-2">
    <p v-if="model.stale" class="border-l-[3px] border-caution pl-3">
      △ The record or its preparation has changed since: fit it anew.
    </p>
    <VerdictNote v-for="verdict in verdicts" :key="verdict.text" :verdict="verdict" />
    <button
      v-if="beginsTrials(model.model.structure.kind)"
      type="button"
      class="button justify-self-start"
      :class="isDoubtful || model.stale ? '' : 'button-main'"
      @click="emit('control')"
    >
      {{ isDoubtful || model.stale ? "Control with it all the same" : "Control with it" }}
    </button>
    <p v-else class="text-soft">Control works with a structure with dead time: reduce this one to it.</p>
  </div>
</template>
