<script setup lang="ts">
/** A choice among what a loop can begin on. */
import { computed, watch } from "vue";
import type { Beginning } from "./beginnings";

const props = defineProps<{ beginnings: Beginning[]; label: string }>();
const chosen = defineModel<string>({ required: true });

// What was chosen before may have gone since.
watch(
  () => props.beginnings,
  ([first, ...rest]) => {
    if (first && ![first, ...rest].some((one) => one.key === chosen.value)) chosen.value = first.key;
  },
  { immediate: true },
);

const groups = computed(() =>
  [
    { title: "Saved for the works", of: props.beginnings.filter((one) => one.isSaved) },
    { title: "Processes of the library", of: props.beginnings.filter((one) => !one.isSaved) },
  ].filter(({ of }) => of.length > 0),
);
</script>

<template>
  <select v-model="chosen" class="entry" :aria-label="label">
    <optgroup v-for="group in groups" :key="group.title" :label="group.title">
      <option v-for="one in group.of" :key="one.key" :value="one.key">{{ one.title }}</option>
    </optgroup>
  </select>
</template>
