<script setup lang="ts">
/** What the data show without a structure, with the chosen model laid over it. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type ModelRow, type Schemas } from "../api/client";
import NumberField from "../components/NumberField.vue";
import StateNotice from "../components/StateNotice.vue";
import XyPlot from "../components/XyPlot.vue";
import { letter } from "../lib/format";
import type { Line } from "../lib/xy";
import { analysisOf } from "./useAnalysis";
import { comebacks } from "../lib/live";

const props = defineProps<{
  tag: string;
  recordId: string;
  windows: Schemas["Windows"];
  disturbances: string[];
  model: ModelRow | null;
  unit: string;
}>();

const horizon = ref<number | null>(null);
const lines = ref<number | null>(null);
const found = ref<Schemas["Nonparametric"] | null>(null);
const problem = ref("");

async function run() {
  problem.value = "";
  try {
    found.value = await answered(
      api.POST("/api/v1/loops/{tag}/nonparametric", {
        params: { path: { tag: props.tag } },
        body: {
          record_id: props.recordId,
          // Without a structure there is nothing to be held against: all data count.
          windows: { ...props.windows, validation: { kind: "none" } },
          disturbances: props.disturbances,
          options: { horizon: horizon.value, lines: lines.value },
        },
      }),
    );
  } catch (error) {
    problem.value = messageOf(error);
  }
}
watch([comebacks, () => props.recordId, () => props.windows, horizon, lines], () => void run(), {
  immediate: true,
  deep: true,
});

const analysis = computed(() => analysisOf(props.model?.id));
const label = computed(() => (props.model ? letter(props.model.number) : ""));

const steps = computed<Line[]>(() => {
  const step = found.value?.step;
  if (!step) return [];
  const end = step.times.at(-1) ?? 0;
  const lines: Line[] = [
    {
      x: step.times,
      y: step.values,
      half: step.half_widths,
      colour: "--measured",
      label: "data",
      width: 1.4,
    },
  ];
  const own = analysis.value?.steps[0];
  if (own) {
    const inside = own.times.filter((time) => time <= end).length;
    lines.push({
      x: own.times.slice(0, inside),
      y: own.values.slice(0, inside),
      colour: "--pv",
      dash: [7, 4],
      label: label.value,
      width: 2,
    });
  }
  return lines;
});

function frequency(which: "gains" | "phases"): Line[] {
  const response = found.value?.frequency;
  if (!response) return [];
  const half = which === "gains" ? response.gain_half_widths : response.phase_half_widths;
  const lines: Line[] = [
    { x: response.omegas, y: response[which], half, colour: "--measured", label: "data", width: 1.4 },
  ];
  const own = analysis.value?.frequencies[0];
  if (own)
    lines.push({ x: own.omegas, y: own[which], colour: "--pv", dash: [7, 4], label: label.value, width: 2 });
  return lines;
}
const range = computed<[number, number]>(() => {
  const omegas = found.value?.frequency.omegas ?? [];
  return [omegas[0] ?? 0.01, omegas.at(-1) ?? 1];
});
const phaseRange = computed<[number, number]>(() => {
  const phases = found.value?.frequency.phases ?? [];
  return [Math.max(-900, Math.min(0, ...phases)) - 20, Math.max(0, ...phases) + 20];
});
</script>

<template>
  <StateNotice v-if="problem && !found" kind="failed" title="The data do not tell" :retry="run">{{
    problem
  }}</StateNotice>
  <StateNotice v-else-if="!found" kind="loading" title="Responses on their way" />
  <div v-else class="flex h-full min-h-0 flex-col gap-1 pb-1">
    <div class="flex flex-wrap items-center gap-4 pl-14 text-[13px]">
      <NumberField
        v-model="horizon"
        label="Step response over"
        unit="s"
        :min="0"
        exclusive
        when-empty="a fifth"
      />
      <NumberField
        v-model="lines"
        label="Lines on either side"
        unit=""
        :min="8"
        :when-empty="String(found.lines)"
      />
      <span v-if="problem" class="text-limit" role="alert">{{ problem }}</span>
    </div>
    <div class="min-h-0 flex-[1.3]">
      <XyPlot :lines="steps" title="Step response from the data" :y-title="`${unit}/%`" x-title="s" />
    </div>
    <div class="grid min-h-0 flex-1 grid-cols-2 gap-2">
      <XyPlot
        :lines="frequency('gains')"
        title="Gain"
        :y-title="`${unit}/%`"
        x-title="rad/s"
        log-x
        log-y
        :x-range="range"
      />
      <XyPlot
        :lines="frequency('phases')"
        title="Phase"
        y-title="°"
        x-title="rad/s"
        log-x
        :x-range="range"
        :y-range="phaseRange"
      />
    </div>
  </div>
</template>
