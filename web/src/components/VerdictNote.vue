<script setup lang="ts">
import type { Verdict } from "../api/client";

defineProps<{ verdict: Verdict }>();
const signs = { good: "", caution: "Mind: ", bad: "Not yet: " };
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
    <strong v-if="signs[verdict.tone]" class="font-semibold">{{ signs[verdict.tone] }}</strong>{{
      verdict.text
    }}
  </p>
</template>
