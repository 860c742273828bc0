<script setup lang="ts">
/** All loops of a trial together over frequency: singular values of S and T, characteristic loci, and what they mean. */
import { computed } from "vue";
import type { Schemas } from "../api/client";
import VerdictNote from "../components/VerdictNote.vue";
import XyPlot from "../components/XyPlot.vue";
import { number } from "../lib/format";
import type { Line } from "../lib/xy";

const props = defineProps<{ loops: Schemas["LoopsTogether"] }>();

/** Where anything happens: two decades below the peak, up to the end. */
const range = computed<[number, number]>(() => {
  const { omega, peak_sensitivity: peak } = props.loops;
  const [first = 1e-3, last = 1] = [omega[0], omega.at(-1)];
  const about = peak?.omega ?? Math.sqrt(first * last);
  return [Math.max(first, about / 100), Math.min(last, about * 40)];
});

const plots = computed(() => {
  const { loops } = props;
  const of = (title: string, words: string, colour: string, all: [number[], number[]], peak?: Peak) => ({
    title,
    words,
    lines: [
      { x: loops.omega, y: all[0], colour, width: 2.2, label: "worst" },
      { x: loops.omega, y: all[1], colour, dash: [7, 4], label: "best" },
    ] satisfies Line[],
    height: [0.01, 1.5 * Math.max(...all[0], 1)] as [number, number],
    marks: peak ? [{ x: peak.omega, label: number(peak.height) }] : [],
  });
  type Peak = Schemas["Peak"] | null;
  return [
    of(
      "Singular values of S",
      "at the PVs",
      "--pv",
      [loops.largest_sensitivity, loops.smallest_sensitivity],
      loops.peak_sensitivity,
    ),
    of(
      "Singular values of T",
      "set points",
      "--op",
      [loops.largest_complementary, loops.smallest_complementary],
      loops.peak_complementary,
    ),
  ];
});

const DASHES = [undefined, [7, 4], [2, 3], [9, 3, 2, 3], [4, 4], [12, 4]];
const COLOURS = ["--pv", "--op", "--dv", "--measured", "--over-1", "--ink"];
/** Far from −1 a locus goes its way unseen. */
const FAR = 8;
const loci = computed<Line[]>(() => [
  ...props.loops.loci.map(({ real, imaginary }, k) => ({
    x: real,
    y: imaginary.map((value, at) => (Math.hypot(value, real[at] as number) > FAR ? null : value)),
    colour: COLOURS[k % COLOURS.length] as string,
    dash: DASHES[k % DASHES.length],
    label: `λ${k + 1}`,
    width: 2,
  })),
  { x: [-1], y: [0], colour: "--limit", kind: "crosses" as const },
]);
</script>

<template>
  <div class="grid min-h-0 flex-1 grid-cols-2 grid-rows-[1fr_1fr_auto] gap-1 pr-3 pb-1">
    <XyPlot
      class="col-start-2 row-span-2 row-start-1"
      :lines="loci"
      title="Characteristic loci"
      y-title="imaginary part"
      x-title="real part"
      one-scale
      :x-range="[-2, 1]"
      :y-range="[-1.5, 1]"
    />
    <XyPlot
      v-for="plot in plots"
      :key="plot.title"
      class="col-start-1"
      :lines="plot.lines"
      :title="plot.title"
      :y-title="plot.words"
      x-title="rad/s"
      log-x
      log-y
      :x-range="range"
      :y-range="plot.height"
      :marks="plot.marks"
    />
    <div class="col-span-2 pl-[58px]">
      <VerdictNote v-for="verdict in loops.verdicts" :key="verdict.text" :verdict="verdict" />
    </div>
  </div>
</template>
