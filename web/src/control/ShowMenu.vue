<script setup lang="ts">
/** Signals that are shown besides, each in a panel of its own. */
import { Popover, PopoverButton, PopoverPanel } from "@headlessui/vue";

import { computed, ref } from "vue";

const props = defineProps<{ choices: { key: string; title: string; unit: string }[]; shown: Set<string> }>();
const emit = defineEmits<{ toggle: [key: string] }>();
const words = ref("");
const found = computed(() =>
  props.choices.filter((choice) => choice.title.toLowerCase().includes(words.value.trim().toLowerCase())),
);
</script>

<template>
  <Popover class="relative shrink-0">
    <PopoverButton class="button !py-[2px]">
      Signals{{ shown.size ? ` (${shown.size})` : "" }} ▾
    </PopoverButton>
    <PopoverPanel
      class="absolute right-0 z-40 mt-1 max-h-[60vh] w-[250px] overflow-y-auto rounded-[5px] border border-rule bg-raised px-3 py-2 shadow-lg"
    >
      <input
        v-if="choices.length > 8"
        v-model="words"
        class="entry mb-1 w-full"
        type="search"
        placeholder="search"
        aria-label="Search the signals"
      />
      <label v-for="choice in found" :key="choice.key" class="flex items-center gap-2 py-[2px]">
        <input type="checkbox" :checked="shown.has(choice.key)" @change="emit('toggle', choice.key)" />
        <span class="min-w-0 truncate" :title="choice.title">{{ choice.title }}</span>
        <span class="ml-auto text-[12px] text-soft">{{ choice.unit }}</span>
      </label>
    </PopoverPanel>
  </Popover>
</template>
