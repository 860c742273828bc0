<script setup lang="ts">
/** The loop over frequency: Bode, Nyquist with the circle of maximum sensitivity, the four sensitivity functions. */
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import XyPlot from "../components/XyPlot.vue";
import { number } from "../lib/format";
import type { Line } from "../lib/xy";
import { useKept } from "../lib/kept";
import { comebacks } from "../lib/live";
import TogetherView from "./TogetherView.vue";

const props = defineProps<{
  trial: Trial;
  /** Of several controllers the one whose loop is looked at. */
  controller: string;
}>();

const outcome = shallowRef<Schemas["FrequencyOutcome"] | null>(null);
const problem = ref("");

let sent = 0;
watch(
  [() => JSON.stringify(props.trial), () => props.controller, comebacks],
  async ([, controller], [, before]) => {
    // The curves of one loop never stand under the name of another.
    if (controller !== before) outcome.value = null;
    const ticket = ++sent;
    try {
      const query = controller ? { controller } : {};
      const found = await answered(
        api.POST("/api/v1/robustness/frequency", { params: { query }, body: props.trial }),
      );
      if (ticket !== sent) return;
      outcome.value = found;
      problem.value = "";
    } catch (error) {
      if (ticket === sent) problem.value = messageOf(error);
    }
  },
  { immediate: true },
);

const curves = computed(() => outcome.value?.curves ?? null);
const together = computed(() => outcome.value?.together ?? null);
/** All loops together, where somebody wants to see them. */
const allWanted = useKept("frequency of all loops", () => false);
const all = computed(() => (allWanted.value ? together.value : null));
const margins = computed(() => outcome.value?.margins ?? null);
const omega = computed(() => curves.value?.omega ?? []);
const line = (y: number[], label?: string, colour = "--pv", dash?: number[]): Line => ({
  x: omega.value,
  y,
  label,
  colour,
  dash,
});

const marks = computed(() => [
  ...(margins.value?.gain_crossover ? [{ x: margins.value.gain_crossover, label: "|L| = 1" }] : []),
  ...(margins.value?.phase_crossover ? [{ x: margins.value.phase_crossover, label: "−180°" }] : []),
]);
/** Where anything happens: two decades below the crossover, up to the end. */
const range = computed<[number, number]>(() => {
  const all = omega.value;
  const last = all.at(-1) ?? 1;
  const about = margins.value?.gain_crossover ?? margins.value?.phase_crossover ?? last / 30;
  return [Math.max(all[0] ?? 1e-3, about / 60), Math.min(last, about * 60)];
});
const inside = (y: number[]) => y.filter((_, k) => within(k));
function within(k: number): boolean {
  const x = omega.value[k] as number;
  return x >= range.value[0] && x <= range.value[1];
}

const gainRange = computed<[number, number]>(() => {
  const values = inside(curves.value?.loop_gain ?? [1]);
  return [Math.max(Math.min(...values), 1e-3), Math.max(...values, 1.5)];
});
const phase = computed(() => (curves.value?.loop_phase ?? []).map((value) => (value < -720 ? null : value)));
const phaseRange = computed<[number, number]>(() => {
  const values = inside(curves.value?.loop_phase ?? [0]);
  return [Math.max(Math.min(...values), -450) - 10, Math.max(...values, -90) + 10];
});

const circle = computed<Line[]>(() => {
  const radius = 1 / (margins.value?.max_sensitivity ?? 1);
  const angles = Array.from({ length: 73 }, (_, k) => (k * Math.PI) / 36);
  return margins.value?.max_sensitivity
    ? [
        {
          x: angles.map((angle) => -1 + radius * Math.cos(angle)),
          y: angles.map((angle) => radius * Math.sin(angle)),
          colour: "--limit",
          dash: [5, 4],
          label: `Ms ${number(margins.value.max_sensitivity)}`,
        },
      ]
    : [];
});
const nyquist = computed<Line[]>(() => {
  const real = curves.value?.loop_real ?? [];
  const imaginary = (curves.value?.loop_imaginary ?? []).map((value, k) =>
    Math.abs(value) > 8 || Math.abs(real[k] as number) > 8 ? null : value,
  );
  return [
    ...circle.value,
    { x: real, y: imaginary, colour: "--pv", width: 2.2 },
    { x: [-1], y: [0], colour: "--limit", kind: "crosses" },
  ];
});

const sensitivities = computed<Line[]>(() =>
  curves.value
    ? [
        line(curves.value.sensitivity, "S", "--pv"),
        line(curves.value.complementary, "T", "--op", [7, 4]),
        line(curves.value.load_sensitivity, "GS", "--dv", [2, 3]),
        line(curves.value.noise_sensitivity, "CS", "--measured", [9, 3, 2, 3]),
      ]
    : [],
);
const sensitivityRange = computed<[number, number]>(() => {
  const all = sensitivities.value.flatMap((known) => inside(known.y as number[]));
  return [Math.max(Math.min(...all), 0.01), 1.2 * Math.max(...all, 2)];
});
</script>

<template>
  <StateNotice v-if="problem" kind="failed" title="The loop has no frequency response">{{
    problem
  }}</StateNotice>
  <StateNotice v-else-if="!outcome" kind="loading" title="The loop is being computed" />
  <template v-else>
    <div
      v-if="together"
      class="flex flex-wrap gap-x-4 pl-14 text-[13px]"
      role="radiogroup"
      aria-label="Which loops"
    >
      <label class="flex items-center gap-2">
        <input v-model="allWanted" type="radio" :value="false" /> {{ controller }}, the others closed
      </label>
      <label class="flex items-center gap-2">
        <input v-model="allWanted" type="radio" :value="true" /> {{ together.loops.join(", ") }} together
      </label>
    </div>
    <TogetherView v-if="all" :loops="all" />
    <StateNotice v-else-if="!curves" kind="empty" title="No frequency response">
      In manual, with a relay or a controller that adapts, with a predictive one that only keeps ranges, where
      a controller stands by to override, where the other loops do not hold without this one, and where the
      plant does not start at rest, there is no linear loop that stands still.
    </StateNotice>
    <div v-else class="grid min-h-0 flex-1 grid-cols-2 grid-rows-2 gap-1 pr-3 pb-1">
      <XyPlot
        :lines="[line(curves.loop_gain)]"
        title="|L|"
        y-title="open loop"
        x-title="rad/s"
        log-x
        log-y
        :x-range="range"
        :y-range="gainRange"
        :marks="marks"
      />
      <XyPlot
        :lines="nyquist"
        title="Nyquist"
        y-title="imaginary part of L"
        x-title="real part"
        one-scale
        :x-range="[-2, 1]"
        :y-range="[-1.5, 1]"
      />
      <XyPlot
        :lines="[{ ...line([]), y: phase }]"
        title="Phase of L"
        y-title="°"
        x-title="rad/s"
        log-x
        :x-range="range"
        :y-range="phaseRange"
        :marks="marks"
      />
      <XyPlot
        :lines="sensitivities"
        title="Sensitivities"
        y-title="S load at PV · T set point · GS load at OP · CS noise to OP"
        x-title="rad/s"
        log-x
        log-y
        :x-range="range"
        :y-range="sensitivityRange"
      />
      <p v-if="outcome.noise" class="col-span-2 pl-[58px] text-[12.5px] text-soft">
        White noise of 1 % at the PV moves the OP by {{ number(outcome.noise.output) }} %, from scan to scan
        by {{ number(outcome.noise.a_move) }} % (standard deviations)<template
          v-if="outcome.noise.travel_per_hour > 0"
          >; this sensor's noise alone makes the actuator travel {{ number(outcome.noise.travel_per_hour) }} %
          an hour</template
        >.
      </p>
    </div>
  </template>
</template>
