<script setup lang="ts">
/** Panels on one shared time axis: zoom with drag or wheel, pan with Shift, one cursor that reads all curves. */
import uPlot from "uplot";
import { computed, nextTick, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from "vue";
import { number, timeUnit } from "../lib/format";
import type { Mark, Panel } from "../lib/strip";
import { rangeOf, series, table, valueAt } from "../lib/stripData";
import { drawGround, drawNotes, drawUnder, type Surroundings } from "../lib/stripDrawing";
import { colour, paletteVersion } from "../lib/theme";

const props = defineProps<{ panels: Panel[]; marks?: Mark[]; label: string; extent?: [number, number] }>();
const emit = defineEmits<{
  view: [from: number, to: number];
  drawn: [];
  /** A mark or level was drawn to another time or value; `settled` once it is let go. */
  drag: [key: string, to: number, settled: boolean];
}>();

const AXIS_WIDTH = 56;
const LABEL_WIDTH = 92;
const MARK_HEIGHT = 18;
const AXIS_HEIGHT = 24;
/** Steps between ticks in whatever unit the axis is read. */
const STEPS = Array.from({ length: 12 }, (_, k) => [1, 2, 5].map((step) => step * 10 ** (k - 5))).flat();

const host = useTemplateRef<HTMLDivElement>("host");
const readout = ref<{ time: string; values: Map<string, string> } | null>(null);
let plots: uPlot[] = [];
let shown: [number, number] = [0, 1];
let frame = 0;

const whole = computed<[number, number]>(() => {
  if (props.extent) return props.extent;
  let [low, high] = [Infinity, -Infinity];
  for (const curve of props.panels.flatMap((panel) => panel.curves)) {
    low = Math.min(low, curve.times[0] ?? Infinity);
    high = Math.max(high, curve.times.at(-1) ?? -Infinity);
  }
  return low < high ? [low, high] : [0, 1];
});

/** What makes a plot anew; all else only needs new data. */
const layout = computed(() =>
  JSON.stringify(
    props.panels.map((panel) => [
      panel.key,
      panel.weight,
      panel.curves.map((curve) => [
        curve.label,
        curve.colour,
        curve.dash,
        curve.stepped,
        curve.fillTo,
        curve.faint,
        curve.half !== undefined,
      ]),
    ]),
  ),
);

function options(panel: Panel, index: number, width: number, height: number): uPlot.Options {
  const isLast = index === props.panels.length - 1;
  const axis = {
    stroke: () => colour("--ink-soft"),
    font: "12px 'Atkinson Hyperlegible Next Variable', sans-serif",
  };
  const grid = { stroke: () => colour("--grid"), width: 1 };
  return {
    width,
    height,
    padding: [index === 0 ? MARK_HEIGHT : 6, LABEL_WIDTH, isLast ? 0 : 6, 0],
    legend: { show: false },
    cursor: {
      sync: { key: "strip", setSeries: false },
      drag: { x: true, y: false, setScale: false },
      points: { size: 6 },
    },
    scales: {
      x: { time: false, range: () => shown },
      y: { range: (plot) => rangeOf(current(index), plot.bbox.height / devicePixelRatio, shown) },
    },
    axes: [
      {
        ...axis,
        grid,
        ticks: { show: false },
        show: true,
        size: isLast ? AXIS_HEIGHT : 0,
        incrs: () => {
          const unit = timeUnit(shown[1] - shown[0]);
          return STEPS.map((step) => step * unit.seconds);
        },
        space: 70,
        values: (_, splits) => {
          const unit = timeUnit(shown[1] - shown[0]);
          return splits.map((split) => (isLast ? number(split / unit.seconds, 5) : ""));
        },
      },
      {
        ...axis,
        grid,
        ticks: { show: false },
        size: AXIS_WIDTH,
        space: 26,
        values: (_, splits) => splits.map((split) => number(split, 4)),
      },
    ],
    series: [{}, ...panel.curves.map(series)],
    hooks: {
      drawClear: [(plot) => drawGround(plot, current(index))],
      drawAxes: [(plot) => drawUnder(plot, current(index))],
      draw: [
        (plot) => drawNotes(plot, current(index), surroundings(index)),
        (plot) => placeHandles(plot, index),
      ],
      setSelect: [(plot) => zoomToSelection(plot)],
      setCursor: [(plot) => readCursor(plot)],
    },
  };
}

function surroundings(index: number): Surroundings {
  return { marks: props.marks ?? [], shown, isFirst: index === 0, isLast: index === props.panels.length - 1 };
}

function current(index: number): Panel {
  return props.panels[index] as Panel;
}

/** Handles of what can be drawn, where they stand on the screen. */
interface Handle {
  key: string;
  label: string;
  colour: string;
  isLevel: boolean;
  panel: number;
  at: number;
  value: number;
}
const handles = ref<Handle[]>([]);

function placeHandles(plot: uPlot, index: number) {
  const panel = current(index);
  const own: Handle[] = [];
  const place = (key: string, label: string, token: string, value: number, isLevel: boolean) =>
    own.push({
      key,
      label,
      colour: token,
      isLevel,
      panel: index,
      at: isLevel
        ? plot.over.offsetTop + plot.valToPos(value, "y")
        : plot.over.offsetLeft + plot.valToPos(value, "x"),
      value,
    });
  if (panel.level) place(panel.level.key, panel.level.label, panel.level.colour, panel.level.value, true);
  if (index === 0) {
    for (const mark of props.marks ?? []) {
      const isShown = mark.time >= shown[0] && mark.time <= shown[1];
      if (mark.key && isShown) place(mark.key, mark.label, mark.colour, mark.time, false);
    }
  }
  const others = handles.value.filter((handle) => handle.panel !== index);
  const next = [...others, ...own];
  if (JSON.stringify(next) !== JSON.stringify(handles.value)) handles.value = next;
}

function dragged(event: PointerEvent, handle: Handle) {
  const plot = plots[handle.panel];
  if (!plot) return;
  event.preventDefault();
  const target = event.currentTarget as HTMLElement;
  target.setPointerCapture(event.pointerId);
  const valueAtPointer = (moved: PointerEvent) => {
    const box = plot.over.getBoundingClientRect();
    return handle.isLevel
      ? plot.posToVal(moved.clientY - box.top, "y")
      : plot.posToVal(moved.clientX - box.left, "x");
  };
  const move = (moved: PointerEvent) => emit("drag", handle.key, valueAtPointer(moved), false);
  const drop = (moved: PointerEvent) => {
    target.removeEventListener("pointermove", move);
    target.removeEventListener("pointerup", drop);
    emit("drag", handle.key, valueAtPointer(moved), true);
  };
  target.addEventListener("pointermove", move);
  target.addEventListener("pointerup", drop);
}

function nudged(event: KeyboardEvent, handle: Handle) {
  const plot = plots[handle.panel];
  const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[event.key];
  if (!plot || by === undefined) return;
  event.preventDefault();
  event.stopPropagation();
  const axis = plot.scales[handle.isLevel ? "y" : "x"];
  const span = (axis?.max ?? 1) - (axis?.min ?? 0);
  emit("drag", handle.key, handle.value + by * span * (event.shiftKey ? 0.02 : 0.002), true);
}

function readCursor(plot: uPlot) {
  const { idx, left } = plot.cursor;
  if (left === undefined || left < 0 || idx === null || idx === undefined) {
    readout.value = null;
    return;
  }
  const time = plot.posToVal(left, "x");
  const values = new Map<string, string>();
  for (const panel of props.panels) {
    const texts = panel.curves
      .filter((curve) => curve.label)
      .map((curve) => `${curve.label} ${number(valueAt(curve, time), 4)}`);
    values.set(panel.key, texts.join("   "));
  }
  const unit = timeUnit(shown[1] - shown[0]);
  readout.value = { time: `${number(time / unit.seconds, 4)} ${unit.symbol}`, values };
}

function show(from: number, to: number) {
  const [start, end] = whole.value;
  const width = Math.min(Math.max(to - from, 1e-6 * (end - start)), end - start);
  const left = Math.min(Math.max(from, start), end - width);
  shown = [left, left + width];
  for (const plot of plots) plot.redraw(false, true);
  emit("view", shown[0], shown[1]);
}

function zoomToSelection(plot: uPlot) {
  const { left, width } = plot.select;
  if (width < 4) return;
  const [from, to] = [plot.posToVal(left, "x"), plot.posToVal(left + width, "x")];
  plot.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
  show(from, to);
}

function zoom(factor: number, about = 0.5) {
  const width = shown[1] - shown[0];
  const center = shown[0] + about * width;
  show(center - about * width * factor, center + (1 - about) * width * factor);
}

function pan(share: number) {
  const move = share * (shown[1] - shown[0]);
  show(shown[0] + move, shown[1] + move);
}

function wheeled(event: WheelEvent) {
  const over = (event.target as HTMLElement).closest<HTMLElement>(".u-over");
  if (!over) return;
  event.preventDefault();
  if (event.shiftKey) pan(Math.sign(event.deltaY || event.deltaX) * 0.1);
  else zoom(event.deltaY > 0 ? 1.25 : 0.8, event.offsetX / over.clientWidth);
}

function pressed(event: KeyboardEvent) {
  const moves: Record<string, () => void> = {
    "+": () => zoom(0.8),
    "-": () => zoom(1.25),
    ArrowLeft: () => pan(-0.1),
    ArrowRight: () => pan(0.1),
    "0": () => show(...whole.value),
  };
  const move = moves[event.key];
  if (move) {
    event.preventDefault();
    move();
  }
}

function heights(total: number): number[] {
  const fixed = MARK_HEIGHT + AXIS_HEIGHT;
  const weights = props.panels.reduce((sum, panel) => sum + panel.weight, 0);
  return props.panels.map((panel, index) => {
    const own = ((total - fixed) * panel.weight) / weights;
    return Math.floor(
      own + (index === 0 ? MARK_HEIGHT : 0) + (index === props.panels.length - 1 ? AXIS_HEIGHT : 0),
    );
  });
}

function build() {
  for (const plot of plots) plot.destroy();
  plots = [];
  if (!host.value) return;
  const { clientWidth, clientHeight } = host.value;
  const tall = heights(clientHeight);
  plots = props.panels.map((panel, index) => {
    const slot = host.value?.querySelector<HTMLElement>(`[data-panel="${index}"]`);
    return new uPlot(options(panel, index, clientWidth, tall[index] ?? 100), table(panel), slot ?? undefined);
  });
}

function resize() {
  if (!host.value) return;
  const { clientWidth, clientHeight } = host.value;
  const tall = heights(clientHeight);
  plots.forEach((plot, index) => plot.setSize({ width: clientWidth, height: tall[index] ?? 100 }));
}

const observer = new ResizeObserver(() => {
  cancelAnimationFrame(frame);
  frame = requestAnimationFrame(resize);
});

onMounted(() => {
  shown = whole.value;
  build();
  if (host.value) observer.observe(host.value);
  void document.fonts.ready.then(() => plots.forEach((plot) => plot.redraw()));
});

onBeforeUnmount(() => {
  observer.disconnect();
  cancelAnimationFrame(frame);
  for (const plot of plots) plot.destroy();
});

watch(whole, (now, before) => {
  if (now[0] !== before[0] || now[1] !== before[1]) shown = now;
});
watch(
  () => [layout.value, props.panels] as const,
  async ([now], [before]) => {
    if (now !== before) {
      await nextTick();
      build();
    } else {
      plots.forEach((plot, index) => plot.setData(table(current(index))));
    }
    emit("drawn");
  },
);
watch(
  () => props.marks,
  () => plots.forEach((plot) => plot.redraw()),
);
watch(paletteVersion, () => plots.forEach((plot) => plot.redraw()));

defineExpose({ reset: () => show(...whole.value), view: () => shown });
</script>

<template>
  <div
    ref="host"
    class="relative h-full min-h-0 w-full overflow-hidden"
    role="img"
    tabindex="0"
    :aria-label="label"
    @wheel="wheeled"
    @dblclick="show(...whole)"
    @keydown="pressed"
  >
    <div v-for="(panel, index) in panels" :key="panel.key" :data-panel="index" class="relative">
      <div
        class="pointer-events-none absolute z-10 flex gap-2 bg-sheet/85 px-1 text-[12px]"
        :class="index === 0 ? 'top-[22px]' : 'top-[9px]'"
        style="left: 62px"
      >
        <strong class="font-semibold">{{ panel.title }}</strong>
        <span class="text-soft">{{ panel.unit }}</span>
        <span v-if="readout" class="whitespace-pre text-ink">{{ readout.values.get(panel.key) }}</span>
        <span v-if="readout && index === 0" class="text-soft">at {{ readout.time }}</span>
      </div>
      <button
        v-for="handle in handles.filter((known) => known.panel === index)"
        :key="handle.key"
        type="button"
        role="slider"
        :aria-label="handle.label"
        :aria-valuenow="handle.value"
        class="absolute z-20 touch-none"
        :class="
          handle.isLevel
            ? 'right-[92px] left-[56px] h-[11px] -translate-y-1/2 cursor-ns-resize'
            : 'top-[2px] bottom-0 w-[13px] -translate-x-1/2 cursor-ew-resize'
        "
        :style="handle.isLevel ? { top: `${handle.at}px` } : { left: `${handle.at}px` }"
        @pointerdown="dragged($event, handle)"
        @keydown="nudged($event, handle)"
      >
        <span
          v-if="handle.isLevel"
          class="pointer-events-none absolute inset-x-0 top-1/2 border-t-2 border-dotted"
          :style="{ borderColor: `var(${handle.colour})` }"
        />
        <span
          v-if="handle.isLevel"
          class="pointer-events-none absolute -top-[13px] right-1 bg-sheet/85 px-1 text-[12px]"
          :style="{ color: `var(${handle.colour})` }"
          >⇕ {{ handle.label }}</span
        >
      </button>
    </div>
  </div>
</template>
