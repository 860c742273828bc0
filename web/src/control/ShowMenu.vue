<script setup lang="ts">
/** Signals that are shown besides, each in a panel of its own. */
import { Popover, PopoverButton, PopoverPanel } from "@headlessui/vue";

defineProps<{ choices: { key: string; title: string; unit: string }[]; shown: Set<string> }>();
const emit = defineEmits<{ toggle: [key: string] }>();
</script>

<template>
  <Popover class="relative shrink-0">
    <PopoverButton class="button !py-[2px]">
      Signals{{ shown.size ? ` (${shown.size})` : "" }} ▾
    </PopoverButton>
    <PopoverPanel
      class="absolute right-0 z-40 mt-1 w-[230px] rounded-[5px] border border-rule bg-raised px-3 py-2 shadow-lg"
    >
      <label v-for="choice in choices" :key="choice.key" class="flex items-center gap-2 py-[2px]">
        <input type="checkbox" :checked="shown.has(choice.key)" @change="emit('toggle', choice.key)" />
        <span>{{ choice.title }}</span>
        <span class="ml-auto text-[12px] text-soft">{{ choice.unit }}</span>
      </label>
    </PopoverPanel>
  </Popover>
</template>
