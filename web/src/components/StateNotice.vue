<script setup lang="ts">
/** What stands in place of content: nothing yet, on its way, or failed. */
defineProps<{ kind: "empty" | "loading" | "failed"; title: string; retry?: () => unknown }>();
</script>

<template>
  <div
    class="flex h-full flex-col items-center justify-center gap-3 p-6 text-center"
    :role="kind === 'failed' ? 'alert' : 'status'"
  >
    <svg width="120" height="34" viewBox="0 0 120 34" fill="none" aria-hidden="true">
      <path
        v-if="kind !== 'failed'"
        d="M2 28h30c14 0 14-22 34-22h52"
        :class="kind === 'loading' ? 'animate-pulse stroke-pv' : 'stroke-rule'"
        stroke-width="2"
      />
      <path v-else d="M2 28h30c10 0 12-14 18-18m10 0 8 8m0-8-8 8" class="stroke-limit" stroke-width="2" />
    </svg>
    <p class="heading">{{ title }}</p>
    <div class="max-w-[46ch] text-soft"><slot /></div>
    <button v-if="retry" type="button" class="button" @click="retry()">Try again</button>
  </div>
</template>
