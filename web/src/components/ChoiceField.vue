<script setup lang="ts">
/** One of several, with its label: beside the numbers that `NumberField` shows. */
export interface Choice {
  value: string;
  title: string;
}

defineProps<{ label: string; modelValue: string; choices: Choice[] }>();
const emit = defineEmits<{ "update:modelValue": [value: string] }>();
</script>

<template>
  <label class="grid grid-cols-[minmax(0,1fr)_158px] items-center gap-2">
    {{ label }}
    <select
      class="entry min-w-0"
      :value="modelValue"
      @change="emit('update:modelValue', ($event.target as HTMLSelectElement).value)"
    >
      <option v-for="choice in choices" :key="choice.value" :value="choice.value">{{ choice.title }}</option>
    </select>
  </label>
</template>
