<script setup lang="ts">
/** Two figures of all candidates against each other, summed over the disturbances: what one gains the other pays. */
import { computed, ref } from "vue";
import XyPlot from "../components/XyPlot.vue";
import type { Line } from "../lib/xy";
import type { ProofRow } from "./proof";

const props = defineProps<{ row: ProofRow }>();
const totals = computed(() => props.row.result.totals);
const placeOf = (kind: string) => totals.value.findIndex((total) => total.of.figure.kind === kind);
const across = ref(placeOf("output_travel"));
const up = ref(placeOf("integral_absolute_error"));
const titleOf = (place: number) => totals.value[place]?.of.title ?? "";
const axisOf = (place: number) => `${titleOf(place)}, ${totals.value[place]?.of.unit}`;
const KINDS = ["points", "crosses", "circles"] as const;
const COLOURS = ["--pv", "--op", "--dv", "--ink"];
const lines = computed<Line[]>(() =>
  props.row.result.candidates.flatMap((name, c) => {
    const [x, y] = [across.value, up.value].map((place) => totals.value[place]?.values[c]);
    if (x == null || y == null) return [];
    const [colour, kind] = [COLOURS[c % COLOURS.length] ?? "--pv", KINDS[c % KINDS.length] ?? "points"];
    return [{ x: [x], y: [y], label: name, colour, kind, width: 3 }];
  }),
);
/** None is better in both. */
const front = computed(() => {
  const points = lines.value.map((line) => ({
    x: line.x[0] ?? 0,
    y: line.y[0] ?? 0,
    name: line.label ?? "",
  }));
  const kept = points.filter((one) => !points.some((other) => other.x < one.x && other.y < one.y));
  return kept.sort((a, b) => a.x - b.x);
});
const left = computed(() => props.row.result.candidates.length - lines.value.length);
const drawn = computed<Line[]>(() => [
  {
    x: front.value.map((p) => p.x),
    y: front.value.map((p) => p.y),
    colour: "--ink-soft",
    dash: [4, 3],
    width: 1,
  },
  ...lines.value,
]);
const range = (values: number[]): [number, number] => {
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const pad = 0.15 * (high - low || high || 1);
  return [Math.max(0, low - pad), high + pad];
};
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col pr-3">
    <div class="flex flex-wrap items-center gap-2 pb-1 text-[13px]">
      <label
        ><span class="mr-1 text-soft">Up</span>
        <select v-model="up" class="entry">
          <option v-for="(total, k) in totals" :key="k" :value="k">{{ total.of.title }}</option>
        </select></label
      >
      <label
        ><span class="mr-1 text-soft">Across</span>
        <select v-model="across" class="entry">
          <option v-for="(total, k) in totals" :key="k" :value="k">{{ total.of.title }}</option>
        </select></label
      >
      <span class="text-soft">
        summed over the disturbances{{ row.result.drawn.length ? ", the middle plant of each" : "" }}
      </span>
    </div>
    <p v-if="left" class="pb-1 text-[12.5px] text-soft">
      {{ left }} without a place here: a trial of theirs was stopped.
    </p>
    <XyPlot
      class="min-h-0 flex-1"
      :lines="drawn"
      :title="`${titleOf(up)} against ${titleOf(across)}`"
      :x-title="axisOf(across)"
      :y-title="axisOf(up)"
      :x-range="range(lines.map((line) => line.x[0] ?? 0))"
      :y-range="range(lines.map((line) => line.y[0] ?? 0))"
    />
    <p v-if="front.length" class="pb-1 text-[12.5px] text-soft">
      On the dashed line, none is better in both: {{ front.map((one) => one.name).join(", ") }}.
    </p>
  </div>
</template>
