<script setup lang="ts">
/** What is to be thought of a record; a finding with a place in the record can be shown there. */
import type { Schemas } from "../api/client";
import VerdictNote from "../components/VerdictNote.vue";

defineProps<{ findings: Schemas["Finding"][]; shown: Schemas["Finding"] | null }>();
const emit = defineEmits<{ show: [finding: Schemas["Finding"] | null] }>();
</script>

<template>
  <ul class="mb-3 grid gap-2" aria-label="Findings">
    <li v-for="finding in findings" :key="finding.verdict.text">
      <VerdictNote :verdict="finding.verdict" />
      <button
        v-if="finding.stretches.length"
        type="button"
        class="ml-3 text-[12px] underline decoration-rule underline-offset-2 hover:decoration-ink"
        :aria-pressed="shown === finding"
        @click="emit('show', shown === finding ? null : finding)"
      >
        {{ shown === finding ? "hide on the strip" : "show on the strip" }}
      </button>
    </li>
  </ul>
</template>
