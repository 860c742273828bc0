<script setup lang="ts">
/** A fit under way: how far it is, and what the best so far makes of the record. */
import { computed } from "vue";
import type { Schemas } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import TimeStrip from "../components/TimeStrip.vue";
import { number } from "../lib/format";
import type { Panel } from "../lib/strip";
import { inWords } from "../lib/structures";

const props = defineProps<{ fit: Schemas["FitState"]; from: number; start: string | null | undefined }>();
const emit = defineEmits<{ cancel: [] }>();

const soFar = computed(() => props.fit.outcome?.so_far ?? null);
const panels = computed<Panel[]>(() => {
  const found = soFar.value;
  if (!found) return [];
  const times = found.times.map((time) => props.from + time);
  return [
    {
      key: "so far",
      title: `${found.tag}, measured, and the best so far`,
      unit: found.unit,
      curves: [
        { label: "measured", times, values: found.measured, colour: "--measured", width: 1 },
        { label: "so far", times, values: found.modelled, colour: "--pv", dash: [7, 4], width: 2 },
      ],
      weight: 1,
    },
  ];
});
const extent = computed<[number, number]>(() => [props.from, props.from + (soFar.value?.times.at(-1) ?? 1)]);
const share = computed(() => Math.round(100 * props.fit.share));
</script>

<template>
  <div class="flex h-full min-h-0 flex-col">
    <div class="flex flex-wrap items-center gap-3 pr-2 pb-1 pl-14 text-[13px]" role="status">
      <span class="font-semibold">Fitting</span>
      <progress class="w-40" max="100" :value="share" aria-label="How far the fit is">{{ share }} %</progress>
      <span class="text-soft tabular-nums">
        about {{ share }} %<template v-if="soFar">, best so far {{ number(soFar.fit, 3) }} %</template>
      </span>
      <button type="button" class="button ml-auto" @click="emit('cancel')">Cancel the fit</button>
    </div>
    <p v-if="soFar" class="pr-2 pb-1 pl-14 text-[12.5px] text-soft tabular-nums">
      <span v-for="one in soFar.numbers" :key="one.name" class="mr-4 inline-block">
        {{ inWords(one.name) }} {{ number(one.value, 4) }} {{ one.unit }}
      </span>
    </p>
    <TimeStrip
      v-if="soFar"
      class="min-h-0 flex-1"
      :panels="panels"
      :marks="[]"
      :extent="extent"
      :start="start"
      label="The record and the best model so far"
    />
    <StateNotice v-else kind="loading" title="The search has begun" />
  </div>
</template>
