<script setup lang="ts">
/** A signal of a plant: what of the process it is, its tag, and what is set of it. */
import FieldList from "../components/FieldList.vue";
import type { Field } from "../lib/field";

defineProps<{ name: string; tag: string; fields: Field[]; colour: "pv" | "op" | "dv" }>();
const emit = defineEmits<{ rename: [tag: string]; remove: []; settled: [] }>();

const BORDERS = { pv: "border-pv", op: "border-op", dv: "border-dv" };

function rename(event: globalThis.Event) {
  const tag = (event.target as HTMLInputElement).value.trim();
  if (tag) emit("rename", tag);
}
</script>

<template>
  <div class="grid gap-[6px] border-l-[3px] pl-3" :class="BORDERS[colour]">
    <label class="grid grid-cols-[minmax(0,1fr)_158px_auto] items-center gap-2">
      {{ name }}
      <input
        class="entry min-w-0"
        :aria-label="`Tag of ${name}`"
        :value="tag"
        maxlength="64"
        @change="rename"
      />
      <button
        type="button"
        class="px-1 text-soft hover:text-limit"
        :aria-label="`Remove: ${tag}`"
        @click="emit('remove')"
      >
        ×
      </button>
    </label>
    <FieldList :fields="fields" @settled="emit('settled')" />
  </div>
</template>
