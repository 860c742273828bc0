<script setup lang="ts">
/** Panels on one shared time axis: zoom with drag or wheel, pan with Shift, one cursor that reads all curves. */
import uPlot from "uplot";
import { Popover, PopoverButton, PopoverPanel } from "@headlessui/vue";
import { computed, nextTick, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from "vue";
import {
  AS_THEY_COME,
  LEAST_HEIGHT,
  arranged,
  moved,
  sharedHeights,
  toggled,
  type Arrangement,
} from "../lib/arrangement";
import { clockSplits, clockText, dayOf } from "../lib/clock";
import { number, timeUnit } from "../lib/format";
import { useKept } from "../lib/kept";
import type { Mark, Panel } from "../lib/strip";
import { rangeOf, series, table, valueAt } from "../lib/stripData";
import { valueTicks } from "../lib/xy";
import { drawGround, drawNotes, drawUnder, type Surroundings } from "../lib/stripDrawing";
import { colour, paletteVersion } from "../lib/theme";

const props = defineProps<{
  panels: Panel[];
  marks?: Mark[];
  label: string;
  extent?: [number, number];
  /** Time of the record's start, ISO 8601: the axis shows the clock then. */
  start?: string | null;
  /** What is shown is from before: the server does not answer, or what was asked cannot be had. */
  stale?: string;
}>();
const emit = defineEmits<{
  view: [from: number, to: number];
  drawn: [];
  /** A mark or level was drawn to another time or value; `settled` once it is let go. */
  drag: [key: string, to: number, settled: boolean];
}>();

/** What somebody made of the panels of this strip: folded, in another order. */
const arrangement = useKept<Arrangement>(`panels of ${props.label}`, () => AS_THEY_COME);
const parts = computed(() => arranged(props.panels, arrangement.value));
const open = computed(() => parts.value.open);
const isArranged = computed(() => arrangement.value.order.length > 0 || parts.value.folded.length > 0);

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
/** Whether only a part is in sight. */
const isZoomed = ref(false);
/** Axes that were set by hand, by unit and title of their panel. */
const axesByHand = useKept<Record<string, [number | null, number | null]>>("axes", () => ({}));
const nameOfAxis = (panel: Panel) => `${panel.title} ${panel.unit}`;

function setAxis(panel: Panel, end: 0 | 1, text: string) {
  const before = axesByHand.value[nameOfAxis(panel)] ?? [null, null];
  const value = text.trim() === "" ? null : Number(text.trim().replace(",", ".").replace("−", "-"));
  if (value !== null && !Number.isFinite(value)) return;
  const next: [number | null, number | null] = end === 0 ? [value, before[1]] : [before[0], value];
  axesByHand.value = { ...axesByHand.value, [nameOfAxis(panel)]: next };
  for (const plot of plots) plot.redraw(true, true);
}

function rangeShown(panel: Panel, height: number): [number, number] {
  const [low, high] = rangeOf(panel, height, shown);
  const byHand = axesByHand.value[nameOfAxis(panel)];
  const range: [number, number] = [byHand?.[0] ?? low, byHand?.[1] ?? high];
  return range[0] < range[1] ? range : [low, high];
}

const whole = computed<[number, number]>(() => {
  if (props.extent) return props.extent;
  let [low, high] = [Infinity, -Infinity];
  for (const curve of open.value.flatMap((panel) => panel.curves)) {
    low = Math.min(low, curve.times[0] ?? Infinity);
    high = Math.max(high, curve.times.at(-1) ?? -Infinity);
  }
  return low < high ? [low, high] : [0, 1];
});

/** What makes a plot anew; all else only needs new data. */
const layout = computed(() =>
  JSON.stringify(
    open.value.map((panel) => [
      panel.key,
      panel.weight,
      panel.curves.map((curve) => [
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
  const isLast = index === open.value.length - 1;
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
      y: { range: (plot) => rangeShown(current(index), plot.bbox.height / devicePixelRatio) },
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
        ...(props.start
          ? { splits: (plot: uPlot) => clockSplits(props.start, shown, plot.bbox.width / devicePixelRatio) }
          : {}),
        space: 70,
        values: (_, splits) => {
          if (!isLast) return splits.map(() => "");
          if (props.start) return splits.map((split) => clockText(props.start, split, shown[1] - shown[0]));
          const unit = timeUnit(shown[1] - shown[0]);
          return splits.map((split) => number(split / unit.seconds, 5));
        },
      },
      {
        ...axis,
        grid,
        ticks: { show: false },
        size: AXIS_WIDTH,
        splits: (plot, _, low, high) => valueTicks(low, high, plot.bbox.height / devicePixelRatio),
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
  const isLast = index === open.value.length - 1;
  const day = props.start ? dayOf(props.start, shown[0]) : null;
  return { marks: props.marks ?? [], shown, isFirst: index === 0, isLast, day };
}

/** A panel that is just going has nothing more to show. */
const NO_PANEL: Panel = { key: "", title: "", unit: "", curves: [], weight: 1 };
function current(index: number): Panel {
  return open.value[index] ?? NO_PANEL;
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
      // From what is drawn, not from the document: asking that would lay the page out anew in the midst of drawing.
      at: isLevel
        ? plot.bbox.top / devicePixelRatio + plot.valToPos(value, "y")
        : plot.bbox.left / devicePixelRatio + plot.valToPos(value, "x"),
      value,
    });
  if (panel.level) place(panel.level.key, panel.level.label, panel.level.colour, panel.level.value, true);
  const { min = -Infinity, max = Infinity } = plot.scales.y ?? {};
  for (const { key, values, label, side } of panel.limits ?? []) {
    const [value] = values;
    const isInSight = value !== undefined && value >= (min ?? -Infinity) && value <= (max ?? Infinity);
    if (key && isInSight) place(key, label ?? `${side} limit`, "--limit", value, true);
  }
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
  for (const panel of open.value) {
    const texts = panel.curves
      .filter((curve) => curve.label)
      .map((curve) => `${curve.label} ${number(valueAt(curve, time), 4)}`);
    values.set(panel.key, texts.join("   "));
  }
  const unit = timeUnit(shown[1] - shown[0]);
  const clock = props.start ? ` (${clockText(props.start, time, 0)})` : "";
  readout.value = { time: `${number(time / unit.seconds, 4)} ${unit.symbol}${clock}`, values };
}

function show(from: number, to: number) {
  const [start, end] = whole.value;
  const width = Math.min(Math.max(to - from, 1e-6 * (end - start)), end - start);
  const left = Math.min(Math.max(from, start), end - width);
  shown = [left, left + width];
  isZoomed.value = width < 0.999 * (end - start);
  // The paths of the curves are those of the old stretch: they are made anew.
  for (const plot of plots) plot.redraw(true, true);
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
  const weights = open.value.map((panel) => panel.weight);
  const least = weights.length > 1 ? LEAST_HEIGHT : 0;
  return sharedHeights(weights, total - fixed, least).map((own, index) =>
    Math.floor(own + (index === 0 ? MARK_HEIGHT : 0) + (index === open.value.length - 1 ? AXIS_HEIGHT : 0)),
  );
}

function build() {
  for (const plot of plots) plot.destroy();
  plots = [];
  if (!host.value) return;
  const { clientWidth, clientHeight } = host.value;
  const tall = heights(clientHeight);
  plots = open.value.map((panel, index) => {
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
  cancelAnimationFrame(drawing);
  for (const plot of plots) plot.destroy();
});

watch(whole, (now, before) => {
  if (now[0] === before[0] && now[1] === before[1]) return;
  shown = now;
  isZoomed.value = false;
});
watch(
  () => [layout.value, open.value] as const,
  async ([now], [before]) => {
    if (now !== before) {
      await nextTick();
      build();
      emit("drawn");
    } else {
      drawSoon(true);
    }
  },
);
watch(
  () => props.marks,
  (now, before) => JSON.stringify(now) !== JSON.stringify(before) && drawSoon(false),
);

/** What the next frame draws: the hand and the words of the page come first, and several changes are drawn once. */
let asked: "nothing" | "marks" | "curves" = "nothing";
let drawing = 0;
function drawSoon(withCurves: boolean) {
  const isUnderWay = asked !== "nothing";
  asked = withCurves || asked === "curves" ? "curves" : "marks";
  if (isUnderWay) return;
  drawing = requestAnimationFrame(() => {
    const what = asked;
    asked = "nothing";
    if (what === "marks") return plots.forEach((plot) => plot.redraw());
    plots.forEach((plot, index) => index < open.value.length && plot.setData(table(current(index))));
    emit("drawn");
  });
}
watch(paletteVersion, () => plots.forEach((plot) => plot.redraw()));

/** On paper: the width of a sheet, and the colours of the day. */
function toPaper() {
  if (!host.value) return;
  const tall = heights(PAPER.height);
  host.value.style.height = `${PAPER.height}px`;
  plots.forEach((plot, index) => plot.setSize({ width: PAPER.width, height: tall[index] ?? 100 }));
}
function toScreen() {
  if (host.value) host.value.style.height = "";
  resize();
}
const PAPER = { width: 1010, height: 470 };
window.addEventListener("beforeprint", toPaper);
window.addEventListener("afterprint", toScreen);
onBeforeUnmount(() => {
  window.removeEventListener("beforeprint", toPaper);
  window.removeEventListener("afterprint", toScreen);
});

defineExpose({ reset: () => show(...whole.value), view: () => shown });
</script>

<template>
  <div class="flex h-full min-h-0 w-full flex-col">
    <div
      ref="host"
      class="relative min-h-0 w-full flex-1 overflow-x-hidden overflow-y-auto"
      role="group"
      tabindex="0"
      :aria-label="label"
      @wheel="wheeled"
      @dblclick="show(...whole)"
      @keydown="pressed"
    >
      <p
        v-if="stale"
        class="absolute top-[3px] right-[100px] z-20 rounded-[4px] border border-caution bg-sheet px-2 text-[12px] text-caution"
        role="status"
      >
        △ {{ stale }}
      </p>
      <button
        v-if="isZoomed"
        type="button"
        class="button absolute right-2 bottom-[26px] z-20 !px-2 !py-0 text-[12px] print:hidden"
        @click="show(...whole)"
      >
        whole <kbd class="key">0</kbd>
      </button>
      <div
        v-for="(panel, index) in open"
        :key="panel.key"
        :data-panel="index"
        class="relative"
        :class="index > 0 && index === open.length - 1 ? 'sticky bottom-0 z-10 bg-paper' : ''"
      >
        <Popover
          class="absolute left-[2px] z-20 print:hidden"
          :class="index === 0 ? 'top-[20px]' : 'top-[7px]'"
        >
          <PopoverButton
            class="px-1 text-[12px] hover:text-ink"
            :class="
              axesByHand[nameOfAxis(panel)]?.some((end) => end !== null) ? 'font-bold text-op' : 'text-soft'
            "
            :aria-label="`Axis of ${panel.title}`"
            title="Set the axis, move or fold the panel"
            >⇕</PopoverButton
          >
          <PopoverPanel
            :class="index > 0 && index === open.length - 1 ? 'bottom-full mb-1' : 'mt-1'"
            class="absolute left-0 z-40 grid w-[200px] grid-cols-[minmax(0,1fr)] gap-1 rounded-[5px] border border-rule bg-raised p-2 text-[12.5px] shadow-lg"
          >
            <label v-for="(title, end) in ['from', 'to']" :key="title" class="flex items-center gap-2">
              <span class="w-[34px]">{{ title }}</span>
              <input
                class="entry min-w-0 flex-1 text-right"
                inputmode="decimal"
                placeholder="as it fits"
                :aria-label="`Axis of ${panel.title} ${title}`"
                :value="axesByHand[nameOfAxis(panel)]?.[end] ?? ''"
                @keydown.stop
                @change="setAxis(panel, end as 0 | 1, ($event.target as HTMLInputElement).value)"
              />
              <span class="text-soft">{{ panel.unit }}</span>
            </label>
            <div
              v-if="panels.length > 1"
              class="flex gap-1"
              role="group"
              :aria-label="`Panel ${panel.title}`"
            >
              <button
                type="button"
                class="button flex-1 !px-1 !py-0"
                :disabled="index === 0"
                @click="arrangement = moved(panels, arrangement, panel.key, -1)"
              >
                Up
              </button>
              <button
                type="button"
                class="button flex-1 !px-1 !py-0"
                :disabled="index === open.length - 1"
                @click="arrangement = moved(panels, arrangement, panel.key, 1)"
              >
                Down
              </button>
              <button
                type="button"
                class="button flex-1 !px-1 !py-0"
                :disabled="open.length < 2"
                @click="arrangement = toggled(arrangement, panel.key)"
              >
                Fold
              </button>
            </div>
          </PopoverPanel>
        </Popover>
        <div
          class="pointer-events-none absolute z-10 flex max-w-[calc(100%-160px)] gap-2 bg-sheet/85 px-1 text-[12px]"
          :class="index === 0 ? 'top-[22px]' : 'top-[9px]'"
          style="left: 62px"
        >
          <strong class="font-semibold whitespace-nowrap">{{ panel.title }}</strong>
          <span class="text-soft whitespace-nowrap">{{ panel.unit }}</span>
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
    <div v-if="isArranged" class="flex flex-wrap items-center gap-1 pl-14 text-[12px] print:hidden">
      <button
        v-for="panel in parts.folded"
        :key="panel.key"
        type="button"
        class="rounded-[4px] border border-rule px-2 text-soft hover:text-ink"
        :aria-label="`Open ${panel.title}`"
        @click="arrangement = toggled(arrangement, panel.key)"
      >
        <span aria-hidden="true">▸</span> {{ panel.title }}
      </button>
      <button
        type="button"
        class="px-1 text-soft underline decoration-rule underline-offset-2 hover:text-ink"
        @click="arrangement = AS_THEY_COME"
      >
        all as they come
      </button>
    </div>
  </div>
</template>
