<script setup lang="ts">
/** A line or lines of text with a label; what is wrong with it stands under it. */
import { useId } from "vue";

withDefaults(
  defineProps<{
    label: string;
    problem?: string;
    lines?: number;
    most?: number;
    list?: string;
    placeholder?: string;
  }>(),
  { problem: "", lines: 1, most: 120, list: undefined, placeholder: undefined },
);
const text = defineModel<string>({ required: true });
const id = useId();
</script>

<template>
  <div class="grid gap-1">
    <label :for="id">{{ label }}</label>
    <textarea
      v-if="lines > 1"
      :id="id"
      v-model="text"
      class="entry w-full"
      :class="problem ? '!border-limit' : ''"
      :rows="lines"
      :maxlength="most"
      :aria-invalid="problem !== ''"
      :aria-describedby="problem ? `${id}-problem` : undefined"
    />
    <input
      v-else
      :id="id"
      v-model="text"
      class="entry w-full"
      :class="problem ? '!border-limit' : ''"
      :maxlength="most"
      :list="list"
      :placeholder="placeholder"
      autocomplete="off"
      :aria-invalid="problem !== ''"
      :aria-describedby="problem ? `${id}-problem` : undefined"
    />
    <p v-if="problem" :id="`${id}-problem`" class="text-[12.5px] text-limit" role="alert">{{ problem }}</p>
  </div>
</template>
