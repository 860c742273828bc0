<script setup lang="ts">
/** Load error against maximum sensitivity: the best for each, and the rules. A press takes a point. */
import { computed, ref, useTemplateRef } from "vue";
import type { Schemas, Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import { number } from "../lib/format";
import { beside, type Box } from "../lib/labels";
import { useSize } from "../lib/size";
import { linearTicks, logTicks } from "../lib/xy";
import type { Controller } from "./controllers";
import type { useTuning } from "./tuning";

const props = defineProps<{
  trial: Trial;
  tuning: ReturnType<typeof useTuning>;
  /** Maximum sensitivity of the present trial. */
  present: number | null;
}>();
const emit = defineEmits<{ take: [controller: Controller, name: string] }>();

type Point = Schemas["TradeOffPoint"];

/** What the error is weighed against. */
const against = ref<"max_sensitivity" | "output_travel">("max_sensitivity");
const across = (point: Point | undefined) => point?.figures[against.value] ?? 1;
const host = useTemplateRef<HTMLDivElement>("host");
const size = useSize(host);
const [LEFT, TOP, BOTTOM, RIGHT] = [64, 24, 38, 120];

const outcome = computed(() => props.tuning.tradeOff.value?.trade_off ?? null);
const curves = computed(() => (outcome.value?.curves ?? []).filter((curve) => curve.length > 0));
const rules = computed(() =>
  (outcome.value?.rules ?? []).filter((point) => point.figures.max_sensitivity < 4),
);
const all = computed(() => [...curves.value.flat(), ...rules.value]);
const xRange = computed<[number, number]>(() => [
  1,
  Math.max(against.value === "max_sensitivity" ? 2.7 : 1.5, ...all.value.map(across)) + 0.1,
]);
const yRange = computed<[number, number]>(() => {
  const errors = all.value.map((point) => point.figures.load_error);
  return [
    0.9 * Math.min(...errors),
    1.15 * Math.max(...errors.filter((value) => value < 20 * Math.min(...errors))),
  ];
});
const px = (value: number) =>
  LEFT +
  ((value - xRange.value[0]) / (xRange.value[1] - xRange.value[0])) * (size.value.width - LEFT - RIGHT);
const py = (value: number) => {
  const [low, high] = yRange.value;
  return TOP + (1 - Math.log(value / low) / Math.log(high / low)) * (size.value.height - TOP - BOTTOM);
};

const STYLES: Record<string, { colour: string; dash: string; mark: string }> = {
  PI: { colour: "--pv", dash: "", mark: "M-5 0A5 5 0 1 0 5 0A5 5 0 1 0 -5 0" },
  PID: { colour: "--op", dash: "7 4", mark: "M-5 -5H5V5H-5Z" },
  "Smith predictor": { colour: "--dv", dash: "2 3", mark: "M0 -6L6 5H-6Z" },
};
const style = (title: string) => STYLES[title] ?? { colour: "--ink", dash: "", mark: "M-5 -5L5 5M5 -5L-5 5" };

function words({ title, figures, controller }: Point): string {
  const pid = controller.kind === "smith" ? controller.pid : controller.kind === "pid" ? controller : null;
  const settings = pid
    ? `Kc ${number(pid.gain)}, Ti ${number(pid.integral_time)} s${pid.derivative_time ? `, Td ${number(pid.derivative_time)} s` : ""}`
    : "";
  return `${title}: ${settings}; ∫|e| ${number(figures.load_error)} % s, Ms ${number(figures.max_sensitivity)}, OP travel ${number(figures.output_travel)} %/%`;
}

function take(point: Point) {
  emit("take", point.controller, `${point.title}, Ms ${number(point.figures.max_sensitivity)}`);
}

/** Where the present trial stands, as far as its margins tell. */
const presentAt = computed(() => {
  const value = against.value === "max_sensitivity" ? props.present : null;
  if (value === null || value === undefined) return null;
  const at = px(value);
  return at >= LEFT && at <= size.value.width - RIGHT ? at : null;
});

/** The curves as they are drawn, so densely that a label cannot lie between two points of them. */
const drawn = computed(() =>
  curves.value.flatMap((curve) =>
    curve.slice(1).flatMap((point, k) => {
      const from = curve[k] as Point;
      const [x0, y0] = [px(across(from)), py(from.figures.load_error)];
      const [x1, y1] = [px(across(point)), py(point.figures.load_error)];
      const steps = Math.max(1, Math.ceil(Math.hypot(x1 - x0, y1 - y0) / 4));
      return Array.from({ length: steps }, (_, step): [number, number] => [
        x0 + ((x1 - x0) * step) / steps,
        y0 + ((y1 - y0) * step) / steps,
      ]);
    }),
  ),
);
const LETTER = 6.1;
/** Labels of the rules beside their marks, clear of curves and of each other. */
const labels = computed(() => {
  const shown = rules.value
    .map((point) => ({ point, x: px(across(point)), y: py(point.figures.load_error) }))
    .filter(({ y }) => y > TOP)
    .sort((a, b) => a.y - b.y);
  const marks = shown.map(({ x, y }): [number, number] => [x, y]);
  const frame = {
    x: LEFT,
    y: TOP,
    width: size.value.width - LEFT,
    height: size.value.height - TOP - BOTTOM,
  };
  const boxes = beside(
    shown.map(({ point, x, y }) => ({ x, y, width: LETTER * point.title.length, height: 13 })),
    [...drawn.value, ...marks],
    frame,
  );
  return shown.map(({ point, x, y }, k) => ({ point, x, y, box: boxes[k] as Box }));
});
</script>

<template>
  <StateNotice
    v-if="!outcome"
    :kind="tuning.running.value ? 'loading' : 'empty'"
    :title="tuning.running.value ? 'The best settings are being sought' : 'No trade-off yet'"
  >
    <template v-if="tuning.running.value">
      <progress class="h-2 w-60 accent-(--pv)" :value="tuning.share.value" max="1" aria-label="Trade-off" />
      <button type="button" class="button ml-3" @click="tuning.cancel()">Cancel</button>
    </template>
    <template v-else>
      <p>
        The least load error that each maximum sensitivity allows, for PI, PID and Smith predictor, with the
        rules.
      </p>
      <p v-if="tuning.problem.value" class="mt-2 text-caution" role="alert">△ {{ tuning.problem.value }}</p>
      <button type="button" class="button button-main mt-3" @click="tuning.run('trade_off')">Draw it</button>
    </template>
  </StateNotice>
  <div v-else class="flex min-h-0 flex-1 flex-col pr-3 pb-1">
    <p class="flex items-center gap-3 pl-[64px] text-[12.5px] text-soft">
      Press a point to take its settings; the loop answers at once.
      <label>
        Against
        <select v-model="against" class="entry" aria-label="Against">
          <option value="max_sensitivity">maximum sensitivity</option>
          <option value="output_travel">OP travel</option>
        </select>
      </label>
      <template v-if="tuning.running.value?.kind === 'trade_off'">
        <progress class="h-2 w-40 accent-(--pv)" :value="tuning.share.value" max="1" aria-label="Trade-off" />
        <button type="button" class="button !py-0" @click="tuning.cancel()">Cancel</button>
      </template>
      <template v-else-if="tuning.isTradeOffStale.value">
        <strong class="font-semibold text-caution">△ of a plant that has changed since</strong>
        <button type="button" class="button !py-0" @click="tuning.run('trade_off')">Draw anew</button>
      </template>
      <span v-if="tuning.problem.value" class="text-caution" role="alert">△ {{ tuning.problem.value }}</span>
    </p>
    <div ref="host" class="relative min-h-0 flex-1 overflow-hidden">
      <svg
        :width="size.width"
        :height="size.height"
        role="img"
        aria-label="Load error against maximum sensitivity"
      >
        <text :x="LEFT" y="15" class="fill-ink text-[12.5px] font-semibold">
          ∫|e| dt after a load of 1 % where the OP acts, % of span · s
        </text>
        <g class="fill-soft text-[12px]">
          <template v-for="tick in linearTicks(...xRange, 9)" :key="`x ${tick}`">
            <line :x1="px(tick)" :x2="px(tick)" :y1="TOP" :y2="size.height - BOTTOM" stroke="var(--grid)" />
            <text :x="px(tick)" :y="size.height - BOTTOM + 16" text-anchor="middle">{{ number(tick) }}</text>
          </template>
          <template v-for="tick in logTicks(...yRange)" :key="`y ${tick}`">
            <line :x1="LEFT" :x2="size.width - RIGHT" :y1="py(tick)" :y2="py(tick)" stroke="var(--grid)" />
            <text :x="LEFT - 7" :y="py(tick) + 4" text-anchor="end">{{ number(tick) }}</text>
          </template>
          <text :x="size.width - RIGHT" :y="size.height - 6" text-anchor="end">
            {{ against === "max_sensitivity" ? "maximum sensitivity Ms" : "way of the OP, % per % of load" }}
          </text>
        </g>
        <g v-for="curve in curves" :key="curve[0]?.title">
          <polyline
            :points="curve.map((point) => `${px(across(point))},${py(point.figures.load_error)}`).join(' ')"
            fill="none"
            stroke-width="2.2"
            :stroke="`var(${style(curve[0]?.title ?? '').colour})`"
            :stroke-dasharray="style(curve[0]?.title ?? '').dash"
          />
          <text
            :x="px(across(curve.at(-1))) + 9"
            :y="py(curve.at(-1)?.figures.load_error ?? 1) + 4"
            class="text-[12.5px] font-semibold"
            :fill="`var(${style(curve[0]?.title ?? '').colour})`"
          >
            {{ curve[0]?.title }}
          </text>
        </g>
        <g
          v-for="point in all"
          :key="`${point.title} ${point.figures.max_sensitivity}`"
          class="cursor-pointer"
          role="button"
          tabindex="0"
          :aria-label="`Take ${words(point)}`"
          :transform="`translate(${px(across(point))} ${py(point.figures.load_error)})`"
          @click="take(point)"
          @keydown.enter="take(point)"
        >
          <circle r="11" fill="transparent" />
          <path
            :d="style(point.title).mark"
            stroke-width="2"
            :stroke="`var(${style(point.title).colour})`"
            fill="var(--sheet)"
          />
          <title>{{ words(point) }}</title>
        </g>
        <g v-if="presentAt !== null" class="pointer-events-none">
          <line
            :x1="presentAt"
            :x2="presentAt"
            :y1="TOP"
            :y2="size.height - BOTTOM"
            stroke="var(--ink)"
            stroke-dasharray="2 3"
          />
          <text :x="presentAt + 5" :y="TOP + 12" class="fill-ink text-[12px]">present trial</text>
        </g>
        <line
          v-for="{ point, x, y, box } in labels.filter(
            ({ box, x }) => box.x - x > 12 || box.x + box.width < x + 12,
          )"
          :key="`to ${point.title}`"
          :x1="x"
          :y1="y"
          :x2="box.x > x ? box.x : box.x + box.width"
          :y2="box.y + 7"
          stroke="var(--ink-soft)"
          stroke-width="1"
        />
        <text
          v-for="{ point, box } in labels"
          :key="point.title"
          :x="box.x"
          :y="box.y + 10"
          class="pointer-events-none fill-soft text-[11.5px]"
          stroke="var(--paper)"
          stroke-width="3"
          paint-order="stroke"
        >
          {{ point.title }}
        </text>
      </svg>
    </div>
  </div>
</template>
