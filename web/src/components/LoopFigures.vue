<script setup lang="ts">
/** The figures of one trial beside its settings. */
import { computed } from "vue";
import type { Schemas } from "../api/client";
import { duration, number } from "../lib/format";

const props = defineProps<{
  assessment: Pick<Schemas["Assessment"], "margins" | "metrics">;
  pvUnit: string;
  /** Whether the PV only keeps within limits: there is no error to be summed up then. */
  keepsWithin?: boolean;
}>();

const figures = computed<[string, string][]>(() => {
  const { margins, metrics } = props.assessment;
  const step = metrics.set_point_responses[0];
  return [
    ["Max. sensitivity", number(margins?.max_sensitivity)],
    ["Gain margin", number(margins?.gain_margin)],
    ["Phase margin", margins?.phase_margin ? `${number(margins.phase_margin)}°` : "–"],
    ["Delay margin", duration(margins?.delay_margin)],
    ["Rise 10–90 %", duration(step?.rise_time)],
    ["Settling ±2 %", duration(step?.settling_time_2)],
    [`IAE ${props.pvUnit}·s`, props.keepsWithin ? "–" : number(metrics.integral_absolute_error)],
    ["OP travel", `${number(metrics.output_travel)} %`],
  ];
});
</script>

<template>
  <dl class="grid grid-cols-[auto_1fr_auto_1fr] gap-x-2 gap-y-[2px]">
    <template v-for="[name, value] in figures" :key="name">
      <dt class="text-soft">{{ name }}</dt>
      <dd class="text-right font-semibold">{{ value }}</dd>
    </template>
  </dl>
</template>
