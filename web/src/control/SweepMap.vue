<script setup lang="ts">
/** A metric over two numbers: darker is lower, the value stands in the cell where there is room. */
import { computed, useTemplateRef } from "vue";
import { number } from "../lib/format";
import { useSize } from "../lib/size";

const props = defineProps<{
  axes: number[][];
  /** By the first axis, then the second; null where there is none. */
  values: (number | null)[];
  titles: [string, string];
  title: string;
  best: number | null;
  /** Where the trial stands now, on each axis. */
  now: (number | null)[];
}>();

/** The place of the present setting among the cells, in cells; null where it lies outside. */
function placeOf(axis: number): number | null {
  const [list, value] = [props.axes[axis] ?? [], props.now[axis] ?? null];
  if (value === null || list.length < 2) return null;
  for (let k = 0; k + 1 < list.length; k += 1) {
    const [a, b] = [list[k] as number, list[k + 1] as number];
    if ((value - a) * (value - b) <= 0 && a !== b) return k + (value - a) / (b - a);
  }
  return null;
}
const present = computed(() => {
  const [i, j] = [placeOf(0), placeOf(1)];
  if (i === null || j === null) return null;
  const rows = props.axes[1]?.length ?? 1;
  return { x: LEFT + (i + 0.5) * cell.value.width, y: TOP + (rows - j - 0.5) * cell.value.height };
});
const chosen = defineModel<number | null>({ required: true });

const host = useTemplateRef<HTMLDivElement>("host");
const size = useSize(host);

const LEFT = 66;
const TOP = 26;
const BOTTOM = 40;
const RIGHT = 70;
const cell = computed(() => ({
  width: (size.value.width - LEFT - RIGHT) / Math.max(1, props.axes[0]?.length ?? 1),
  height: (size.value.height - TOP - BOTTOM) / Math.max(1, props.axes[1]?.length ?? 1),
}));

const known = computed(() => props.values.filter((value): value is number => value !== null));
/** Ranks rather than values, so that one wild corner does not make all others alike. */
const sorted = computed(() => [...known.value].sort((a, b) => a - b));
function shade(value: number): number {
  const list = sorted.value;
  const first = list.findIndex((other) => other >= value);
  return list.length > 1 ? 0.85 - (0.8 * first) / (list.length - 1) : 0.5;
}

const cells = computed(() => {
  const second = props.axes[1]?.length ?? 0;
  return props.values.map((value, index) => {
    const [i, j] = [Math.floor(index / second), index % second];
    return {
      index,
      value,
      x: LEFT + i * cell.value.width,
      y: TOP + (second - 1 - j) * cell.value.height,
      shade: value === null ? 0 : shade(value),
    };
  });
});
const hasRoom = computed(() => cell.value.width > 40 && cell.value.height > 15);

function ticks(axis: number): { at: number; text: string }[] {
  const list = props.axes[axis] ?? [];
  const every = Math.max(1, Math.ceil(list.length / (axis === 0 ? 10 : 12)));
  return list.flatMap((value, k) => (k % every === 0 ? [{ at: k, text: number(value) }] : []));
}

function pressed(event: KeyboardEvent) {
  const second = props.axes[1]?.length ?? 1;
  const moves: Record<string, number> = { ArrowUp: 1, ArrowDown: -1, ArrowRight: second, ArrowLeft: -second };
  const by = moves[event.key];
  if (by === undefined) return;
  event.preventDefault();
  const next = (chosen.value ?? props.best ?? 0) + by;
  if (next >= 0 && next < props.values.length) chosen.value = next;
}
</script>

<template>
  <div ref="host" class="relative overflow-hidden">
    <svg
      :width="size.width"
      :height="size.height"
      role="img"
      tabindex="0"
      :aria-label="`${title} over ${titles[0]} and ${titles[1]}`"
      @keydown="pressed"
    >
      <defs>
        <pattern id="none" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <line x1="0" y1="0" x2="0" y2="6" class="stroke-limit" stroke-width="1.2" />
        </pattern>
      </defs>
      <text :x="LEFT" y="16" class="fill-ink text-[12.5px] font-semibold">{{ title }}</text>
      <g v-for="item in cells" :key="item.index" class="cursor-pointer" @click="chosen = item.index">
        <rect
          :x="item.x"
          :y="item.y"
          :width="cell.width + 0.5"
          :height="cell.height + 0.5"
          :fill="item.value === null ? 'url(#none)' : 'var(--pv)'"
          :fill-opacity="item.value === null ? 0.6 : item.shade"
        >
          <title>
            {{ number(axes[0]?.[Math.floor(item.index / (axes[1]?.length ?? 1))]) }},
            {{ number(axes[1]?.[item.index % (axes[1]?.length ?? 1)]) }}: {{ number(item.value) }}
          </title>
        </rect>
        <text
          v-if="hasRoom && item.value !== null"
          :x="item.x + cell.width / 2"
          :y="item.y + cell.height / 2 + 4"
          text-anchor="middle"
          class="text-[11px]"
          :class="item.shade > 0.55 ? 'fill-paper' : 'fill-ink'"
        >
          {{ number(item.value, 3) }}
        </text>
      </g>
      <g v-for="mark in [best, chosen]" :key="`mark ${mark}`">
        <rect
          v-if="mark !== null && cells[mark]"
          :x="cells[mark].x + 1"
          :y="cells[mark].y + 1"
          :width="Math.max(2, cell.width - 2)"
          :height="Math.max(2, cell.height - 2)"
          fill="none"
          :class="mark === chosen ? 'stroke-op' : 'stroke-ink'"
          stroke-width="2.5"
          :stroke-dasharray="mark === chosen ? '4 2' : undefined"
        />
      </g>
      <g v-if="present" :transform="`translate(${present.x} ${present.y})`" class="pointer-events-none">
        <circle r="6" class="fill-paper stroke-ink" stroke-width="2" />
        <path d="M-9 0h18M0 -9v18" class="stroke-ink" stroke-width="1.5" />
        <title>present setting</title>
      </g>
      <text
        v-for="tick in ticks(0)"
        :key="`x ${tick.at}`"
        :x="LEFT + (tick.at + 0.5) * cell.width"
        :y="size.height - BOTTOM + 16"
        text-anchor="middle"
        class="fill-soft text-[12px]"
      >
        {{ tick.text }}
      </text>
      <text
        v-for="tick in ticks(1)"
        :key="`y ${tick.at}`"
        :x="LEFT - 6"
        :y="TOP + ((axes[1]?.length ?? 1) - tick.at - 0.5) * cell.height + 4"
        text-anchor="end"
        class="fill-soft text-[12px]"
      >
        {{ tick.text }}
      </text>
      <text :x="size.width - RIGHT" :y="size.height - 6" text-anchor="end" class="fill-soft text-[12px]">
        {{ titles[0] }}
      </text>
      <text :transform="`translate(12 ${TOP}) rotate(-90)`" text-anchor="end" class="fill-soft text-[12px]">
        {{ titles[1] }}
      </text>
      <g v-for="(share, k) in [0, 0.25, 0.5, 0.75, 1]" :key="share">
        <rect
          :x="size.width - RIGHT + 10"
          :y="TOP + k * 22"
          width="14"
          height="22"
          fill="var(--pv)"
          :fill-opacity="0.85 - 0.8 * share"
        />
        <text :x="size.width - RIGHT + 28" :y="TOP + k * 22 + 15" class="fill-soft text-[11px]">
          {{ number(sorted[Math.round(share * (sorted.length - 1))], 2) }}
        </text>
      </g>
    </svg>
  </div>
</template>
