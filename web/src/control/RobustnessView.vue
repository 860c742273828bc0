<script setup lang="ts">
/** How far the model may be wrong: the map of mismatch, and the envelope of responses over its uncertainty. */
import { computed, ref, shallowRef, useTemplateRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import VerdictNote from "../components/VerdictNote.vue";
import XyPlot from "../components/XyPlot.vue";
import { contours } from "../lib/contours";
import { number, timeUnit } from "../lib/format";
import { useSize } from "../lib/size";
import { linearTicks, logTicks, type Line } from "../lib/xy";
import { comebacks } from "../lib/live";

const props = defineProps<{ trial: Trial; modelId: string | null; pv: number[]; interval: number }>();

const map = shallowRef<Schemas["MismatchMap"] | null>(null);
const envelope = shallowRef<Schemas["Envelope"] | null>(null);
const mapProblem = ref("");
const envelopeProblem = ref("");
/** Standard errors taken where the trial stands on no model, %. */
const assumed = ref(10);
let ticket = 0;

watch(
  [() => JSON.stringify(props.trial), assumed, comebacks],
  async () => {
    const own = ++ticket;
    const ask = async <T,>(request: Promise<T>, put: (found: T | null, problem: string) => void) => {
      try {
        const found = await request;
        if (own === ticket) put(found, "");
      } catch (error) {
        if (own === ticket) put(null, messageOf(error));
      }
    };
    // The law of a controller that plans is longer than that of a PID: its map has fewer plants, within a second.
    const question = props.trial.candidate.controller.kind === "predictive" ? { points: 30 } : {};
    await Promise.all([
      ask(
        answered(api.POST("/api/v1/robustness/mismatch", { body: { trial: props.trial, question } })),
        (found, problem) => {
          map.value = found;
          mapProblem.value = problem;
        },
      ),
      ask(
        answered(
          api.POST("/api/v1/robustness/envelope", {
            body: {
              trial: props.trial,
              model_id: props.modelId,
              relative_error: assumed.value / 100,
              draws: 200,
              seed: 1,
            },
          }),
        ),
        (found, problem) => {
          envelope.value = found;
          envelopeProblem.value = problem;
        },
      ),
    ]);
  },
  { immediate: true },
);

const host = useTemplateRef<HTMLDivElement>("host");
const size = useSize(host);
const [LEFT, TOP, BOTTOM, RIGHT] = [60, 24, 36, 20];
const xRange = computed<[number, number]>(() => [
  map.value?.gain_ratios[0] ?? 0.2,
  map.value?.gain_ratios.at(-1) ?? 4,
]);
const yRange = computed<[number, number]>(() => [
  map.value?.dead_time_ratios[0] ?? 0,
  map.value?.dead_time_ratios.at(-1) ?? 3,
]);
const px = (ratio: number) =>
  LEFT +
  (Math.log(ratio / xRange.value[0]) / Math.log(xRange.value[1] / xRange.value[0])) *
    (size.value.width - LEFT - RIGHT);
const py = (ratio: number) =>
  TOP +
  (1 - (ratio - yRange.value[0]) / (yRange.value[1] - yRange.value[0])) * (size.value.height - TOP - BOTTOM);

/** What the lines are drawn by. */
const by = ref<"max_sensitivity" | "degradation">("max_sensitivity");
const LEVELS = { degradation: [1.1, 1.5, 2.5, 5], max_sensitivity: [1.3, 1.6, 2, 3, 6] };
const lines = computed(() => {
  const now = map.value;
  if (!now) return [];
  return LEVELS[by.value].flatMap((level, index) => {
    const found = contours(now.gain_ratios, now.dead_time_ratios, now[by.value], level);
    const longest = found.reduce((a, b) => (b.length > a.length ? b : a), [] as [number, number][]);
    // Labels stand on a slant, so that those of neighbouring lines do not cover each other.
    const middle = longest[Math.floor(longest.length * (0.2 + 0.14 * index))];
    return found.length ? [{ level, found, label: middle }] : [];
  });
});
const path = (points: [number, number][]) =>
  points.map(([x, y], k) => `${k ? "L" : "M"}${px(x)} ${py(y)}`).join("");

/** The region in which the loop is unstable: right of the limit. */
const unstable = computed(() => {
  const now = map.value;
  if (!now) return "";
  const right = size.value.width - RIGHT;
  const edge = now.dead_time_ratios.map((ratio, k): [number, number] => {
    const limit = now.stability_limit[k];
    const none = now.max_sensitivity[k]?.every((value) => value === null);
    return [limit ? px(limit) : none ? LEFT : right, py(ratio)];
  });
  return `M${edge.map(([x, y]) => `${x} ${y}`).join("L")}L${right} ${py(yRange.value[1])}L${right} ${py(yRange.value[0])}Z`;
});

const time = computed(() => timeUnit(props.trial.scenario.duration));
const band = computed<Line[]>(() => {
  const now = envelope.value;
  if (!now) return [];
  const x = now.low.map((_, k) => (k * now.interval) / time.value.seconds);
  const middle = now.low.map((low, k) => 0.5 * (low + (now.high[k] as number)));
  return [
    {
      x,
      y: middle,
      half: middle.map((value, k) => (now.high[k] as number) - value),
      colour: "--pv",
      width: 0.1,
    },
    { x, y: now.lowest, colour: "--measured", dash: [2, 3], width: 1, label: "lowest" },
    { x, y: now.highest, colour: "--measured", dash: [2, 3], width: 1, label: "highest" },
    {
      x: props.pv.map((_, k) => (k * props.interval) / time.value.seconds),
      y: props.pv,
      colour: "--pv",
      width: 2,
      label: "as modelled",
    },
  ];
});
const verdicts = computed(() => [...(map.value?.verdicts ?? []), ...(envelope.value?.verdicts ?? [])]);
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col gap-1 pr-3 pb-1">
    <div class="grid min-h-0 flex-1 grid-cols-2 gap-2">
      <StateNotice v-if="mapProblem" kind="failed" title="No map of mismatch">{{ mapProblem }}</StateNotice>
      <StateNotice v-else-if="!map" kind="loading" title="The map is being computed" />
      <div v-else ref="host" class="relative min-h-0 overflow-hidden">
        <svg :width="size.width" :height="size.height" role="img" aria-label="Map of mismatch">
          <defs>
            <pattern
              id="unstable"
              width="7"
              height="7"
              patternUnits="userSpaceOnUse"
              patternTransform="rotate(45)"
            >
              <line x1="0" y1="0" x2="0" y2="7" stroke="var(--limit)" stroke-width="1.2" />
            </pattern>
          </defs>
          <text :x="LEFT" y="15" class="fill-ink text-[12.5px] font-semibold">
            Mismatch:
            {{ by === "degradation" ? "error after a load over that as modelled" : "maximum sensitivity" }}
          </text>
          <g class="fill-soft text-[12px]">
            <template v-for="tick in logTicks(...xRange)" :key="`x ${tick}`">
              <line :x1="px(tick)" :x2="px(tick)" :y1="TOP" :y2="size.height - BOTTOM" stroke="var(--grid)" />
              <text :x="px(tick)" :y="size.height - BOTTOM + 15" text-anchor="middle">
                {{ number(tick) }}
              </text>
            </template>
            <template v-for="tick in linearTicks(...yRange, 6)" :key="`y ${tick}`">
              <line :x1="LEFT" :x2="size.width - RIGHT" :y1="py(tick)" :y2="py(tick)" stroke="var(--grid)" />
              <text :x="LEFT - 7" :y="py(tick) + 4" text-anchor="end">{{ number(tick) }}</text>
            </template>
            <text :x="size.width - RIGHT" :y="size.height - 5" text-anchor="end">
              gain of the plant / model
            </text>
            <text :transform="`translate(14 ${TOP}) rotate(-90)`" text-anchor="end">
              dead time of the plant / model
            </text>
          </g>
          <path :d="unstable" fill="url(#unstable)" opacity="0.55" stroke="var(--limit)" stroke-width="2" />
          <text
            :x="size.width - RIGHT - 8"
            :y="TOP + 18"
            text-anchor="end"
            class="fill-limit text-[12.5px] font-semibold"
          >
            unstable
          </text>
          <template v-for="line in lines" :key="line.level">
            <path
              v-for="(points, k) in line.found"
              :key="k"
              :d="path(points)"
              fill="none"
              stroke="var(--pv)"
              :stroke-width="line.level >= 2 ? 2 : 1.2"
            />
            <text
              v-if="line.label"
              :x="px(line.label[0])"
              :y="py(line.label[1])"
              text-anchor="middle"
              class="fill-ink text-[11.5px]"
              stroke="var(--paper)"
              stroke-width="4"
              paint-order="stroke"
            >
              {{ by === "degradation" ? "×" : "Ms" }} {{ number(line.level) }}
            </text>
          </template>
          <path
            :transform="`translate(${px(1)} ${py(1)})`"
            d="M-6 0H6M0 -6V6"
            stroke="var(--ink)"
            stroke-width="2.2"
          />
        </svg>
      </div>
      <StateNotice v-if="envelopeProblem" kind="failed" title="No envelope">{{
        envelopeProblem
      }}</StateNotice>
      <StateNotice v-else-if="!envelope" kind="loading" title="Plants are being drawn" />
      <XyPlot
        v-else
        :lines="band"
        title="Envelope"
        :y-title="`${trial.plant.pv.tag}, ${trial.plant.pv.span.unit}; shaded: 90 % of ${envelope.drawn} plants`"
        :x-title="time.symbol"
      />
    </div>
    <div class="grid gap-1 pl-[60px]">
      <label class="text-[12.5px] text-soft">
        Lines of equal
        <select v-model="by" class="entry" aria-label="Lines of equal">
          <option value="max_sensitivity">maximum sensitivity</option>
          <option value="degradation">error after a load</option>
        </select>
      </label>
      <label v-if="!modelId" class="text-[12.5px] text-soft">
        The trial stands on no identified model: standard errors of
        <input
          v-model.number="assumed"
          class="entry w-14"
          type="number"
          min="1"
          max="50"
          aria-label="Standard errors in %"
        />
        % of each parameter are taken.
      </label>
      <VerdictNote v-for="verdict in verdicts" :key="verdict.text" :verdict="verdict" />
    </div>
  </div>
</template>
