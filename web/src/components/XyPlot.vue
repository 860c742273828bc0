<script setup lang="ts">
/** A plot over anything but time: responses, spectra, correlations, poles. Lines are labelled at their end. */
import { computed, ref, useId, useTemplateRef } from "vue";
import { number } from "../lib/format";
import { useSize } from "../lib/size";
import { extentOf, linearTicks, logTicks, valueTicks, type Line } from "../lib/xy";

const props = withDefaults(
  defineProps<{
    lines: Line[];
    title: string;
    xTitle: string;
    yTitle?: string;
    logX?: boolean;
    logY?: boolean;
    xRange?: [number, number];
    yRange?: [number, number];
    /** Bands across, such as those in which 99 % of the correlations lie. */
    band?: [number, number];
    /** Vertical marks with their labels. */
    marks?: { x: number; label: string }[];
    /** Both axes to one scale, with the unit circle. */
    unitCircle?: boolean;
    /** Both axes to one scale: the range across gives way. */
    oneScale?: boolean;
  }>(),
  {
    yTitle: "",
    logX: false,
    logY: false,
    unitCircle: false,
    oneScale: false,
    xRange: undefined,
    yRange: undefined,
    band: undefined,
    marks: undefined,
  },
);

const clipId = useId();
const host = useTemplateRef<HTMLDivElement>("host");
const cursor = ref<{ x: number; y: number } | null>(null);
const size = useSize(host);

const LEFT = 56;
const TOP = 24;
const BOTTOM = 34;
const right = computed(() => (props.lines.some((line) => line.label) ? 84 : 16));
const inner = computed(() => ({
  width: Math.max(40, size.value.width - LEFT - right.value),
  height: Math.max(30, size.value.height - TOP - BOTTOM),
}));

/** What was zoomed to, until the whole is asked for again. */
const zoomed = ref<{ x: [number, number]; y: [number, number] } | null>(null);
const box = ref<{ x0: number; y0: number; x1: number; y1: number } | null>(null);

const ranges = computed(() => {
  if (zoomed.value) return zoomed.value;
  let x = props.xRange ?? extentOf(props.lines, "x", props.logX);
  let y = props.yRange ?? extentOf(props.lines, "y", props.logY);
  if (props.band && !props.yRange)
    y = [Math.min(y[0], 1.2 * props.band[0]), Math.max(y[1], 1.2 * props.band[1])];
  if (props.unitCircle) {
    const reach = Math.max(1.15, ...x.map(Math.abs), ...y.map(Math.abs));
    const aspect = inner.value.width / inner.value.height;
    x = [-reach * Math.max(1, aspect), reach * Math.max(1, aspect)];
    y = [-reach * Math.max(1, 1 / aspect), reach * Math.max(1, 1 / aspect)];
  }
  if (props.oneScale) {
    const middle = 0.5 * (x[0] + x[1]);
    const half = (0.5 * (y[1] - y[0]) * inner.value.width) / inner.value.height;
    x = [middle - half, middle + half];
  }
  return { x, y };
});

function scaled(value: number, [low, high]: [number, number], log: boolean): number {
  return log ? Math.log(Math.max(value, 1e-300) / low) / Math.log(high / low) : (value - low) / (high - low);
}
const px = (value: number) => LEFT + scaled(value, ranges.value.x, props.logX) * inner.value.width;
const py = (value: number) => TOP + (1 - scaled(value, ranges.value.y, props.logY)) * inner.value.height;

const xTicks = computed(() =>
  props.logX
    ? logTicks(...ranges.value.x, inner.value.width)
    : linearTicks(...ranges.value.x, Math.max(2, Math.floor(inner.value.width / 80))),
);
const yTicks = computed(() =>
  props.logY ? logTicks(...ranges.value.y) : valueTicks(...ranges.value.y, 0.76 * inner.value.height),
);

/** Room that the label of a mark takes, px. */
const MARK_LABEL = 60;
/** Labels of marks that stand close to each other go below each other. */
function rowOf(k: number): number {
  const [own, before] = [props.marks?.[k], props.marks?.[k - 1]];
  if (!own || !before || Math.abs(px(own.x) - px(before.x)) >= MARK_LABEL) return 0;
  return rowOf(k - 1) + 1;
}

function path(line: Line): string {
  let text = "";
  let open = false;
  line.x.forEach((x, k) => {
    const y = line.y[k];
    if (y === null || y === undefined || (props.logY && y <= 0)) {
      open = false;
      return;
    }
    text += `${open ? "L" : "M"}${px(x).toFixed(1)} ${py(y).toFixed(1)}`;
    open = true;
  });
  return text;
}

function area(line: Line): string {
  const points = line.x.flatMap((x, k) => {
    const [y, half] = [line.y[k], line.half?.[k]];
    return y === null || y === undefined || half === null || half === undefined
      ? []
      : [[x, y, half] as const];
  });
  if (points.length < 2) return "";
  const clamp = (y: number) => Math.min(Math.max(py(y), TOP - 4000), TOP + 4000);
  const low = (y: number, half: number) => (props.logY ? Math.max(y - half, 1e-3 * y) : y - half);
  const upper = points.map(([x, y, half]) => `${px(x).toFixed(1)} ${clamp(y + half).toFixed(1)}`);
  const lower = points.map(([x, y, half]) => `${px(x).toFixed(1)} ${clamp(low(y, half)).toFixed(1)}`);
  return `M${upper.join("L")}L${lower.reverse().join("L")}Z`;
}

/** Labels at the ends of the lines, moved apart where they would cover each other. */
const labels = computed(() => {
  const list = props.lines
    .filter((line) => line.label)
    .map((line) => {
      let k = line.y.length - 1;
      while (k >= 0 && line.y[k] === null) k -= 1;
      const y = py((line.y[k] as number | undefined) ?? 0);
      // A point by itself is labelled where it is.
      const x = line.x.length === 1 ? px(line.x[0] as number) + 9 : LEFT + inner.value.width + 6;
      return { line, x, y: Math.min(Math.max(y, TOP + 6), TOP + inner.value.height) };
    })
    .sort((a, b) => a.y - b.y);
  list.forEach((label, k) => {
    const above = list[k - 1];
    if (above) label.y = Math.max(label.y, above.y + 14);
  });
  // What was pushed below the plot goes up again, all in its turn.
  let lowest = TOP + inner.value.height;
  for (const label of list.toReversed()) {
    label.y = Math.min(label.y, lowest);
    lowest = label.y - 14;
  }
  return list;
});

/** The values under the cursor: of each line the point that is nearest across. */
const readout = computed(() => {
  const at = cursor.value;
  if (!at) return "";
  const texts = props.lines
    .filter((line) => line.x.length > 0 && (line.kind ?? "line") !== "bars")
    .map((line) => {
      let best = 0;
      line.x.forEach((x, k) => {
        if (Math.abs(px(x) - at.x) < Math.abs(px(line.x[best] as number) - at.x)) best = k;
      });
      const half = line.half?.[best];
      const band = half === null || half === undefined ? "" : ` ± ${number(half, 3)}`;
      return `${line.label ?? ""} ${number(line.y[best], 4)}${band} at ${number(line.x[best], 4)}`.trim();
    });
  return texts.slice(0, 3).join("   ");
});

function unscaled(share: number, [low, high]: [number, number], log: boolean): number {
  return log ? low * (high / low) ** share : low + share * (high - low);
}

function pressed(event: PointerEvent) {
  const frame = host.value?.getBoundingClientRect();
  if (!frame || event.button !== 0) return;
  const target = event.currentTarget as HTMLElement;
  const at = (moved: PointerEvent) => ({
    x: Math.min(Math.max(moved.clientX - frame.left, LEFT), LEFT + inner.value.width),
    y: Math.min(Math.max(moved.clientY - frame.top, TOP), TOP + inner.value.height),
  });
  const from = at(event);
  target.setPointerCapture(event.pointerId);
  const move = (moved: PointerEvent) => {
    const to = at(moved);
    box.value = { x0: from.x, y0: from.y, x1: to.x, y1: to.y };
  };
  const drop = () => {
    target.removeEventListener("pointermove", move);
    target.removeEventListener("pointerup", drop);
    const drawn = box.value;
    box.value = null;
    if (!drawn || Math.abs(drawn.x1 - drawn.x0) < 6 || Math.abs(drawn.y1 - drawn.y0) < 6) return;
    const across = [drawn.x0, drawn.x1].sort((a, b) => a - b).map((x) => (x - LEFT) / inner.value.width);
    const up = [drawn.y0, drawn.y1].sort((a, b) => b - a).map((y) => 1 - (y - TOP) / inner.value.height);
    const { x, y } = ranges.value;
    zoomed.value = {
      x: [unscaled(across[0] as number, x, props.logX), unscaled(across[1] as number, x, props.logX)],
      y: [unscaled(up[0] as number, y, props.logY), unscaled(up[1] as number, y, props.logY)],
    };
  };
  target.addEventListener("pointermove", move);
  target.addEventListener("pointerup", drop);
}

/** Zoomed about the middle with the keys of the strip. */
function keyed(event: KeyboardEvent) {
  const factor = { "+": 0.8, "-": 1.25 }[event.key];
  if (event.key === "0") zoomed.value = null;
  else if (factor) {
    const about = (range: [number, number], log: boolean): [number, number] => [
      unscaled(0.5 - 0.5 * factor, range, log),
      unscaled(0.5 + 0.5 * factor, range, log),
    ];
    zoomed.value = { x: about(ranges.value.x, props.logX), y: about(ranges.value.y, props.logY) };
  } else return;
  event.preventDefault();
  event.stopPropagation();
}

defineExpose({
  /** The plot as a picture of its own. */
  svg: () => host.value?.querySelector("svg") ?? null,
});

function moved(event: PointerEvent) {
  const box = host.value?.getBoundingClientRect();
  if (box) cursor.value = { x: event.clientX - box.left, y: event.clientY - box.top };
}
</script>

<template>
  <div
    ref="host"
    class="xy-plot relative h-full min-h-0 w-full touch-none"
    role="group"
    tabindex="0"
    :aria-label="title"
    @pointermove="moved"
    @pointerleave="cursor = null"
    @pointerdown="pressed"
    @dblclick="zoomed = null"
    @keydown="keyed"
  >
    <button
      v-if="zoomed"
      type="button"
      class="button absolute right-2 bottom-[36px] z-20 !px-2 !py-0 text-[12px] print:hidden"
      @pointerdown.stop
      @click="zoomed = null"
    >
      whole <kbd class="key">0</kbd>
    </button>
    <div class="pointer-events-none absolute top-[3px] right-2 left-[58px] z-10 flex gap-2 text-[12px]">
      <strong class="font-semibold whitespace-nowrap">{{ title }}</strong>
      <span class="whitespace-nowrap text-soft">{{ yTitle }}</span>
      <span class="truncate whitespace-pre">{{ readout }}</span>
    </div>
    <svg :width="size.width" :height="size.height" role="img" :aria-label="title" class="absolute block">
      <clipPath :id="clipId">
        <rect :x="LEFT" :y="TOP" :width="inner.width" :height="inner.height" />
      </clipPath>
      <rect
        :x="LEFT"
        :y="TOP"
        :width="inner.width"
        :height="inner.height"
        fill="var(--sheet)"
        stroke="var(--rule)"
      />
      <g class="text-[12px]" fill="var(--ink-soft)">
        <template v-for="tick in xTicks" :key="`x${tick}`">
          <line :x1="px(tick)" :x2="px(tick)" :y1="TOP" :y2="TOP + inner.height" stroke="var(--grid)" />
          <text :x="px(tick)" :y="TOP + inner.height + 15" text-anchor="middle">{{ number(tick, 4) }}</text>
        </template>
        <template v-for="tick in yTicks" :key="`y${tick}`">
          <line :x1="LEFT" :x2="LEFT + inner.width" :y1="py(tick)" :y2="py(tick)" stroke="var(--grid)" />
          <text :x="LEFT - 7" :y="py(tick) + 4" text-anchor="end">{{ number(tick, 4) }}</text>
        </template>
        <text :x="LEFT + inner.width" :y="TOP + inner.height + 30" text-anchor="end">{{ xTitle }}</text>
      </g>
      <g :clip-path="`url(#${clipId})`">
        <rect
          v-if="band"
          :x="LEFT"
          :width="inner.width"
          :y="py(band[1])"
          :height="Math.max(0, py(band[0]) - py(band[1]))"
          fill="var(--pv-wash)"
        />
        <ellipse
          v-if="unitCircle"
          :cx="px(0)"
          :cy="py(0)"
          :rx="px(1) - px(0)"
          :ry="py(0) - py(1)"
          fill="none"
          stroke="var(--limit)"
          stroke-dasharray="5 4"
        />
        <line
          v-if="ranges.y[0] < 0 && ranges.y[1] > 0 && !logY"
          :x1="LEFT"
          :x2="LEFT + inner.width"
          :y1="py(0)"
          :y2="py(0)"
          stroke="var(--rule)"
        />
        <template v-for="(line, index) in lines" :key="index">
          <path v-if="line.half" :d="area(line)" :fill="`var(${line.colour})`" opacity="0.16" />
          <path
            v-if="(line.kind ?? 'line') === 'line'"
            :d="path(line)"
            fill="none"
            :stroke="`var(${line.colour})`"
            :stroke-width="line.width ?? 1.8"
            :stroke-dasharray="line.dash?.join(' ')"
          />
          <template v-else-if="line.kind === 'stems' || line.kind === 'bars'">
            <template v-for="(x, k) in line.x" :key="k">
              <line
                v-if="line.y[k] !== null"
                :x1="px(x)"
                :x2="px(x)"
                :y1="py(0)"
                :y2="py(line.y[k] as number)"
                :stroke="`var(${line.colour})`"
                :stroke-width="line.kind === 'bars' ? Math.max(2, (0.7 * inner.width) / line.x.length) : 1.6"
              />
            </template>
          </template>
          <template v-else>
            <template v-for="(x, k) in line.x" :key="k">
              <g
                v-if="line.y[k] !== null"
                :transform="`translate(${px(x)} ${py(line.y[k] as number)})`"
                fill="none"
                :stroke="`var(${line.colour})`"
                stroke-width="1.8"
              >
                <path v-if="line.kind === 'crosses'" d="M-5 -5L5 5M5 -5L-5 5" />
                <circle v-else-if="line.kind === 'circles'" r="5" />
                <circle v-else r="3" :fill="`var(${line.colour})`" />
              </g>
            </template>
          </template>
        </template>
        <rect
          v-if="box"
          :x="Math.min(box.x0, box.x1)"
          :y="Math.min(box.y0, box.y1)"
          :width="Math.abs(box.x1 - box.x0)"
          :height="Math.abs(box.y1 - box.y0)"
          fill="var(--pv)"
          fill-opacity="0.12"
          stroke="var(--pv)"
        />
        <g v-for="(mark, k) in marks ?? []" :key="mark.label">
          <line
            :x1="px(mark.x)"
            :x2="px(mark.x)"
            :y1="TOP"
            :y2="TOP + inner.height"
            stroke="var(--ink)"
            stroke-dasharray="1.5 3"
          />
          <text :x="px(mark.x) + 5" :y="TOP + 14 + 14 * rowOf(k)" class="text-[12px]" fill="var(--ink)">
            {{ mark.label }}
          </text>
        </g>
      </g>
      <text
        v-for="label in labels"
        :key="label.line.label"
        :x="label.x"
        :y="label.y + 4"
        class="text-[12px] font-semibold"
        :fill="`var(${label.line.colour})`"
        stroke="var(--paper)"
        stroke-width="3"
        paint-order="stroke"
      >
        {{ label.line.label }}
      </text>
    </svg>
  </div>
</template>
