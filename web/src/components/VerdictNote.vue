<script setup lang="ts">
import type { Verdict } from "../api/client";

defineProps<{ verdict: Verdict }>();
const signs = { good: null, caution: { shape: "△", word: "Caution" }, bad: { shape: "▲", word: "Problem" } };
</script>

<template>
  <p
    class="border-l-[3px] py-[2px] pl-3"
    :class="{
      'border-pv': verdict.tone === 'good',
      'border-caution': verdict.tone === 'caution',
      'border-limit bg-limit/8': verdict.tone === 'bad',
    }"
    :title="`Rule: ${verdict.rule}`"
  >
    <template v-if="signs[verdict.tone]">
      <span aria-hidden="true" class="mr-1" :class="verdict.tone === 'bad' ? 'text-limit' : 'text-caution'">
        {{ signs[verdict.tone]?.shape }}
      </span>
      <span class="sr-only">{{ signs[verdict.tone]?.word }}:</span> </template
    >{{ verdict.text }}
  </p>
</template>
