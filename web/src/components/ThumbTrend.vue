<script setup lang="ts">
import { computed } from "vue";

const props = defineProps<{ values: (number | null)[]; label: string }>();

const path = computed(() => {
  const known = props.values.filter((value) => value !== null);
  const [low, high] = [Math.min(...known), Math.max(...known)];
  const scale = high > low ? 32 / (high - low) : 0;
  let pen = "M";
  return props.values
    .map((value, k) => {
      if (value === null) {
        pen = "M";
        return "";
      }
      const x = 2 + (216 * k) / Math.max(1, props.values.length - 1);
      const part = `${pen}${x.toFixed(1)} ${(scale ? 36 - scale * (value - low) : 20).toFixed(1)}`;
      pen = "L";
      return part;
    })
    .join("");
});
</script>

<template>
  <svg viewBox="0 0 220 40" class="h-10 w-full" preserveAspectRatio="none" role="img" :aria-label="label">
    <path :d="path" fill="none" class="stroke-pv" stroke-width="1.4" vector-effect="non-scaling-stroke" />
  </svg>
</template>
