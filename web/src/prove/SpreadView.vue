<script setup lang="ts">
/** A figure of one disturbance over the plants: a line a candidate, from the least to the worst, with its limit. */
import { computed, ref, useTemplateRef } from "vue";
import { useSize } from "../lib/size";
import { linearTicks } from "../lib/xy";
import StateNotice from "../components/StateNotice.vue";
import { number } from "../lib/format";
import type { Schemas } from "../api/client";
import { saidWithUnit, type ProofRow, type Told } from "./proof";

type Tried = Schemas["Tried"];

const props = defineProps<{ row: ProofRow; disturbance: number }>();
const emit = defineEmits<{ "update:disturbance": [value: number] }>();
const host = useTemplateRef<HTMLDivElement>("host");
const size = useSize(host);
const place = ref(0);

const result = computed(() => props.row.result);
const of = computed(() => result.value.rows[props.disturbance] ?? (result.value.rows[0] as Tried));
const k = computed(() => Math.min(place.value, of.value.criteria.length - 1));
const told = computed(() => of.value.criteria[k.value] as Told);
/** Where a line of a candidate stands, from the top. */
const yOf = (line: number) => 30 + ROW * line;
const lines = computed(() =>
  result.value.candidates.map((name, c) => ({
    name,
    spread: result.value.cells[props.disturbance]?.[c]?.figures[k.value],
  })),
);
const hasPlants = computed(() => lines.value.some((line) => line.spread?.quantiles.length));
const values = computed(() => {
  const all = lines.value.flatMap(({ spread }) => [
    spread?.own,
    spread?.quantiles[0],
    spread?.quantiles.at(-1),
  ]);
  return [...all, told.value.most].filter((value): value is number => value != null);
});
const range = computed<[number, number]>(() => {
  const low = Math.min(...values.value, Infinity);
  const high = Math.max(...values.value, -Infinity);
  const pad = 0.06 * (high - low || Math.abs(high) || 1);
  return [low >= 0 ? Math.max(0, low - pad) : low - pad, high + pad];
});
const LEFT = 90;
const ROW = 46;
const width = computed(() => Math.max(200, size.value.width - LEFT - 130));
const px = (value: number) =>
  LEFT + ((value - range.value[0]) / (range.value[1] - range.value[0])) * width.value;
const ticks = computed(() => linearTicks(...range.value, Math.max(2, Math.floor(width.value / 90))));
const height = computed(() => 30 + ROW * lines.value.length + 34);
/** A quantile in steps of 5 %. */
const q = (spread: Schemas["Spread"], step: number) => spread.quantiles[step] ?? 0;
const isOver = (value: number | null | undefined) =>
  told.value.most != null && (value ?? Infinity) > told.value.most;
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col overflow-auto pr-3">
    <div class="flex flex-wrap items-center gap-2 pb-2 text-[13px]">
      <label>
        <span class="mr-1 text-soft">Disturbance</span>
        <select
          class="entry"
          :value="disturbance"
          @change="emit('update:disturbance', Number(($event.target as HTMLSelectElement).value))"
        >
          <option v-for="(one, index) in result.rows" :key="one.name" :value="index">{{ one.name }}</option>
        </select>
      </label>
      <label>
        <span class="mr-1 text-soft">Figure</span>
        <select v-model="place" class="entry">
          <option v-for="(one, index) in of.criteria" :key="one.title" :value="index">{{ one.title }}</option>
        </select>
      </label>
      <span v-if="told.most != null" class="text-soft">at most {{ saidWithUnit(told.most, told) }}</span>
    </div>
    <StateNotice v-if="!hasPlants" kind="empty" title="One plant has no spread">
      Choose “the model’s uncertainty” or ranges at Plants, and prove again: then this shows where the figure
      lies on each plant that may be.
    </StateNotice>
    <div v-else ref="host" class="min-h-[120px] flex-1">
      <svg
        :width="size.width"
        :height="height"
        role="img"
        :aria-label="`${told.title} over the plants, by candidate`"
      >
        <g v-for="tick in ticks" :key="tick">
          <line :x1="px(tick)" :x2="px(tick)" y1="20" :y2="height - 34" stroke="var(--grid)" />
          <text :x="px(tick)" :y="height - 18" text-anchor="middle" font-size="11.5" fill="var(--ink-soft)">
            {{ number(tick) }}
          </text>
        </g>
        <text :x="LEFT + width" :y="height - 3" text-anchor="end" font-size="11.5" fill="var(--ink-soft)">
          {{ told.title }}{{ told.unit ? `, ${told.unit}` : "" }}
        </text>
        <g v-if="told.most != null">
          <line
            :x1="px(told.most)"
            :x2="px(told.most)"
            y1="14"
            :y2="height - 34"
            stroke="var(--limit)"
            stroke-width="2"
            stroke-dasharray="4 3"
          />
          <text :x="px(told.most) + 4" y="12" font-size="11.5" fill="var(--limit)">limit</text>
        </g>
        <g v-for="(line, c) in lines" :key="line.name">
          <text
            :x="LEFT - 12"
            :y="yOf(c) + 22"
            text-anchor="end"
            font-weight="600"
            font-size="13"
            fill="var(--ink)"
          >
            {{ line.name }}
          </text>
          <template v-if="line.spread && line.spread.quantiles.length">
            <line
              :x1="px(q(line.spread, 0))"
              :x2="px(q(line.spread, 20))"
              :y1="yOf(c) + 18"
              :y2="yOf(c) + 18"
              stroke="var(--pv)"
              stroke-width="1.4"
            />
            <rect
              :x="px(q(line.spread, 1))"
              :y="yOf(c) + 12"
              :width="Math.max(1, px(q(line.spread, 19)) - px(q(line.spread, 1)))"
              height="12"
              fill="var(--pv)"
              fill-opacity="0.25"
            />
            <rect
              :x="px(q(line.spread, 5))"
              :y="yOf(c) + 9"
              :width="Math.max(1, px(q(line.spread, 15)) - px(q(line.spread, 5)))"
              height="18"
              fill="var(--pv)"
              fill-opacity="0.55"
            />
            <line
              :x1="px(q(line.spread, 10))"
              :x2="px(q(line.spread, 10))"
              :y1="yOf(c) + 7"
              :y2="yOf(c) + 29"
              stroke="var(--ink)"
              stroke-width="2"
            />
            <path
              v-if="line.spread.own != null"
              :d="`M ${px(line.spread.own) - 5} ${yOf(c) + 34} l 5 -7 l 5 7 z`"
              fill="var(--ink)"
            />
            <text
              :x="LEFT + width + 8"
              :y="yOf(c) + 22"
              font-size="12"
              :fill="isOver(line.spread.worst) ? 'var(--limit)' : 'var(--ink-soft)'"
            >
              {{ line.spread.never ? `never on ${line.spread.never}` : `worst ${number(line.spread.worst)}` }}
            </text>
          </template>
        </g>
      </svg>
      <p class="pb-2 text-[12.5px] text-soft">
        Line: all plants; pale: 90 % of them; full: half of them; stroke: the middle one; ▲ below: the plant
        as it is.
      </p>
      <ul class="pb-2 text-[13px]">
        <template v-for="line in lines" :key="line.name">
          <li v-if="line.spread?.difference">
            <strong>{{ line.name }}</strong> against {{ result.candidates[result.compared_with] }}, plant by
            plant: {{ line.spread.difference.mean > 0 ? "+" : "" }}{{ number(line.spread.difference.mean) }}
            {{ told.unit }} ({{ number(line.spread.difference.interval[0]) }} to
            {{ number(line.spread.difference.interval[1]) }}), smaller on
            {{ line.spread.difference.smaller }} plants, larger on {{ line.spread.difference.larger }}.
          </li>
        </template>
      </ul>
    </div>
  </div>
</template>
