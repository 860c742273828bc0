<script setup lang="ts">
/** Panels on one shared time axis: zoom with drag or wheel, pan with Shift, one cursor that reads all curves. */
import uPlot from "uplot";
import { computed, nextTick, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from "vue";
import { number, timeUnit } from "../lib/format";
import type { Curve, Mark, Panel } from "../lib/strip";
import { colour, paletteVersion } from "../lib/theme";

const props = defineProps<{ panels: Panel[]; marks?: Mark[]; label: string; extent?: [number, number] }>();
const emit = defineEmits<{ view: [from: number, to: number, isWhole: boolean]; drawn: [] }>();

const AXIS_WIDTH = 56;
const LABEL_WIDTH = 92;
const MARK_HEIGHT = 18;
const AXIS_HEIGHT = 24;
const INCREMENTS = [1e-3, 2e-3, 5e-3, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30].concat(
  [1, 2, 5, 10, 20, 30].map((minutes) => 60 * minutes),
  [1, 2, 3, 6, 12, 24, 48, 96, 240, 480].map((hours) => 3600 * hours),
);

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
      ]),
    ]),
  ),
);

function table(panel: Panel): uPlot.AlignedData {
  const tables = panel.curves.map((curve) => [curve.times, curve.values] as uPlot.AlignedData);
  if (tables.length === 0)
    return [
      [0, 1],
      [null, null],
    ];
  const first = panel.curves[0]?.times;
  if (panel.curves.every((curve) => curve.times === first)) {
    return [first, ...panel.curves.map((curve) => curve.values)] as uPlot.AlignedData;
  }
  return uPlot.join(tables) as uPlot.AlignedData;
}

/** Room at the top for the title, at the bottom for the eye, in pixels. */
const ROOM = { top: 24, bottom: 8 };

function rangeOf(panel: Panel, height: number): [number, number] {
  let [low, high] = [Infinity, -Infinity];
  const take = (value: number) => {
    low = Math.min(low, value);
    high = Math.max(high, value);
  };
  for (const curve of panel.curves) {
    curve.values.forEach((value, k) => {
      const time = curve.times[k] as number;
      if (value !== null && time >= shown[0] && time <= shown[1]) take(value);
    });
    if (curve.fillTo !== undefined) take(curve.fillTo);
  }
  panel.include?.forEach(take);
  if (low > high) return [0, 1];
  if (high === low) {
    const room = Math.max(0.5, 0.02 * Math.abs(high));
    [low, high] = [low - room, high + room];
  }
  const perPixel = (high - low) / Math.max(10, height - ROOM.top - ROOM.bottom);
  return [low - ROOM.bottom * perPixel, high + ROOM.top * perPixel];
}

function series(curve: Curve): uPlot.Series {
  return {
    label: curve.label,
    stroke: () => colour(curve.colour),
    width: curve.width ?? 1.6,
    dash: curve.dash,
    fill: curve.fillTo === undefined ? undefined : () => `${colour(curve.colour)}38`,
    fillTo: curve.fillTo,
    paths: curve.stepped ? uPlot.paths.stepped?.({ align: 1 }) : uPlot.paths.linear?.(),
    points: { show: false },
    alpha: curve.faint ? 0.75 : 1,
  };
}

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
      y: { range: (plot) => rangeOf(current(index), plot.bbox.height / devicePixelRatio) },
    },
    axes: [
      {
        ...axis,
        grid,
        ticks: { show: false },
        show: true,
        size: isLast ? AXIS_HEIGHT : 0,
        incrs: INCREMENTS,
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
      draw: [(plot) => drawNotes(plot, current(index), index)],
      setSelect: [(plot) => zoomToSelection(plot)],
      setCursor: [(plot) => readCursor(plot)],
    },
  };
}

function current(index: number): Panel {
  return props.panels[index] as Panel;
}

function drawGround(plot: uPlot, panel: Panel) {
  const { ctx, bbox } = plot;
  ctx.fillStyle = colour("--sheet");
  ctx.fillRect(bbox.left, bbox.top, bbox.width, bbox.height);
  for (const band of panel.bands ?? []) {
    const [left, right] = [plot.valToPos(band.from, "x", true), plot.valToPos(band.to, "x", true)];
    const [top, bottom] = [plot.valToPos(band.high, "y", true), plot.valToPos(band.low, "y", true)];
    clipped(plot, () => {
      ctx.fillStyle = colour("--pv-wash");
      ctx.fillRect(left, top, right - left, bottom - top);
    });
  }
}

function clipped(plot: uPlot, draw: () => void) {
  const { ctx, bbox } = plot;
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  draw();
  ctx.restore();
}

function drawNotes(plot: uPlot, panel: Panel, index: number) {
  const { ctx, bbox } = plot;
  const ratio = devicePixelRatio;
  ctx.save();
  ctx.setLineDash([]);
  ctx.globalAlpha = 1;
  ctx.strokeStyle = colour("--rule");
  ctx.lineWidth = ratio;
  ctx.strokeRect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.font = `${12 * ratio}px 'Atkinson Hyperlegible Next Variable', sans-serif`;
  for (const mark of props.marks ?? []) {
    const x = plot.valToPos(mark.time, "x", true);
    if (x < bbox.left - 1 || x > bbox.left + bbox.width + 1) continue;
    ctx.strokeStyle = colour(mark.colour);
    ctx.setLineDash([1.5 * ratio, 3 * ratio]);
    ctx.beginPath();
    ctx.moveTo(x, bbox.top);
    ctx.lineTo(x, bbox.top + bbox.height);
    ctx.stroke();
    ctx.setLineDash([]);
    if (index === 0) {
      ctx.fillStyle = colour(mark.colour);
      const y = bbox.top - 4 * ratio;
      ctx.beginPath();
      ctx.moveTo(x, y);
      ctx.lineTo(x - 4 * ratio, y - 7 * ratio);
      ctx.lineTo(x + 4 * ratio, y - 7 * ratio);
      ctx.fill();
      ctx.textAlign = "left";
      ctx.fillText(mark.label, x + 8 * ratio, y);
    }
  }
  if (panel.limits) drawLimits(plot, panel);
  drawLabels(plot, panel);
  if (index === props.panels.length - 1) {
    ctx.fillStyle = colour("--ink-soft");
    ctx.textAlign = "left";
    const below = bbox.top + bbox.height + 16 * ratio;
    ctx.fillText(timeUnit(shown[1] - shown[0]).symbol, bbox.left + bbox.width + 10 * ratio, below);
  }
  ctx.restore();
}

/** Limits in sight as hatched edges; where the first curve stands at one, it is marked there. */
function drawLimits(plot: uPlot, panel: Panel) {
  const { low, high } = panel.limits as { low: number; high: number };
  const { ctx, bbox } = plot;
  const ratio = devicePixelRatio;
  const curve = panel.curves[0];
  clipped(plot, () => {
    ctx.strokeStyle = colour("--limit");
    for (const limit of [low, high]) {
      const y = plot.valToPos(limit, "y", true);
      if (y < bbox.top || y > bbox.top + bbox.height) continue;
      const away = (limit === high ? -1 : 1) * 6 * ratio;
      ctx.lineWidth = ratio;
      ctx.globalAlpha = 0.55;
      hatch(ctx, bbox.left, bbox.left + bbox.width, y, away, 9 * ratio);
      ctx.globalAlpha = 1;
      if (!curve) continue;
      ctx.lineWidth = 3 * ratio;
      curve.values.forEach((value, k) => {
        const reached = value !== null && (limit === high ? value >= high : value <= low);
        if (!reached || curve.times[k + 1] === undefined) return;
        ctx.beginPath();
        ctx.moveTo(plot.valToPos(curve.times[k] as number, "x", true), y);
        ctx.lineTo(plot.valToPos(curve.times[k + 1] as number, "x", true), y);
        ctx.stroke();
      });
    }
  });
}

function hatch(
  ctx: CanvasRenderingContext2D,
  from: number,
  to: number,
  y: number,
  away: number,
  step: number,
) {
  ctx.beginPath();
  ctx.moveTo(from, y);
  ctx.lineTo(to, y);
  for (let x = from; x < to; x += step) {
    ctx.moveTo(x, y);
    ctx.lineTo(x + Math.abs(away), y + away);
  }
  ctx.stroke();
}

/** Labels at the ends of the curves, moved apart where they would cover each other. */
function drawLabels(plot: uPlot, panel: Panel) {
  const { ctx, bbox } = plot;
  const ratio = devicePixelRatio;
  const labels = panel.curves
    .filter((curve) => curve.label)
    .map((curve) => {
      let k = curve.values.length - 1;
      while (k >= 0 && (curve.values[k] === null || (curve.times[k] as number) > shown[1])) k -= 1;
      const value = curve.values[k] ?? null;
      return value === null ? null : { curve, value, y: plot.valToPos(value, "y", true) };
    })
    .filter((label) => label !== null)
    .sort((a, b) => a.y - b.y);
  const [top, bottom] = [bbox.top + 8 * ratio, bbox.top + bbox.height - 2 * ratio];
  const apart = 14 * ratio;
  labels.forEach((label, k) => {
    const above = labels[k - 1];
    label.y = Math.max(top, above ? Math.max(label.y, above.y + apart) : label.y);
  });
  let lowest = bottom;
  for (const label of labels.toReversed()) {
    label.y = Math.min(label.y, lowest);
    lowest = label.y - apart;
  }
  ctx.textAlign = "left";
  ctx.font = `600 ${12 * ratio}px 'Atkinson Hyperlegible Next Variable', sans-serif`;
  for (const { curve, value, y } of labels) {
    ctx.fillStyle = colour(curve.colour);
    ctx.fillText(`${curve.label} ${number(value, 3)}`, bbox.left + bbox.width + 6 * ratio, y + 4 * ratio);
  }
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
      .map((curve) => `${curve.label} ${number(at(curve, time), 4)}`);
    values.set(panel.key, texts.join("   "));
  }
  const unit = timeUnit(shown[1] - shown[0]);
  readout.value = { time: `${number(time / unit.seconds, 4)} ${unit.symbol}`, values };
}

/** The value of a curve at a time: the last one at or before it. */
function at(curve: Curve, time: number): number | null {
  let [low, high] = [0, curve.times.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((curve.times[middle] as number) <= time) low = middle + 1;
    else high = middle;
  }
  return curve.values[low - 1] ?? null;
}

function show(from: number, to: number) {
  const [start, end] = whole.value;
  const width = Math.min(Math.max(to - from, 1e-6 * (end - start)), end - start);
  const left = Math.min(Math.max(from, start), end - width);
  shown = [left, left + width];
  for (const plot of plots) plot.redraw(false, true);
  emit("view", shown[0], shown[1], isWhole());
}

function isWhole(): boolean {
  const [start, end] = whole.value;
  return shown[1] - shown[0] >= 0.999 * (end - start);
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
    </div>
  </div>
</template>
