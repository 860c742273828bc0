<script setup lang="ts">
/** Parameters over time with their bands, next to the prediction. */
import { computed, ref } from "vue";
import { answered, api, messageOf, type ModelRow, type Schemas } from "../api/client";
import FieldList from "../components/FieldList.vue";
import StateNotice from "../components/StateNotice.vue";
import TimeStrip from "../components/TimeStrip.vue";
import { rangeOf, whenGiven, type Field } from "../lib/field";
import type { Panel } from "../lib/strip";
import { useKept } from "../lib/kept";
import { inWords } from "../lib/structures";
import { useRetry } from "../lib/retry";

const props = defineProps<{
  tag: string;
  recordId: string;
  windows: Schemas["Windows"];
  model: ModelRow | null;
  unit: string;
  interval: number;
  duration: number;
}>();

const value = (name: string) =>
  props.model?.model.parameters.find((parameter) => parameter.name === name)?.value;
/** With a first-order model at hand its neighbourhood is known; else the difference equation needs nothing. */
const method = ref<"recursive_least_squares" | "moving_horizon">(
  value("dead_time") === undefined ? "recursive_least_squares" : "moving_horizon",
);
const theta = value("dead_time") ?? 0;
const tau = value("time_constant") ?? props.duration / 20;
const gain = value("gain") ?? 1;
const recursive = useKept(`recursive ${props.recordId}`, () => ({
  na: 1,
  nb: 2,
  nk: Math.max(1, Math.floor(theta / props.interval) + 1),
  forgetting: 0.998,
  covariance_bound: 10,
  dead_zone: 0,
}));
const digits = (number: number) => Number(number.toPrecision(2));
const horizon = useKept(`horizon ${props.recordId}`, () => ({
  window: digits(Math.min(0.4 * props.duration, 12 * (tau + theta))),
  every: null as number | null,
  dead_time: digits(theta),
  gain: [digits(Math.min(0.2 * gain, 5 * gain)), digits(Math.max(0.2 * gain, 5 * gain))],
  time_constant: [digits(0.2 * tau), digits(5 * tau)],
  gain_change: null as number | null,
  time_constant_change: null as number | null,
}));
const courses = ref<Schemas["Courses"] | null>(null);
const problem = ref("");
const busy = ref(false);

async function run() {
  busy.value = true;
  problem.value = "";
  try {
    const body = {
      record_id: props.recordId,
      windows: { ...props.windows, validation: { kind: "none" as const } },
      method:
        method.value === "recursive_least_squares"
          ? { kind: method.value, ...recursive.value }
          : { kind: method.value, ...horizon.value },
    } as Schemas["OverTimeRequest"];
    courses.value = await answered(
      api.POST("/api/v1/loops/{tag}/over-time", { params: { path: { tag: props.tag } }, body }),
    );
  } catch (error) {
    problem.value = messageOf(error);
  } finally {
    busy.value = false;
  }
}
void run();
useRetry(() => problem.value !== "", run);

const fields = computed<Field[]>(() => {
  if (method.value === "recursive_least_squares") {
    const field = (
      key: keyof typeof recursive.value,
      label: string,
      unit: string,
      more: Partial<Field> = {},
    ): Field => ({
      key,
      label,
      unit,
      value: recursive.value[key],
      set: whenGiven((number) => (recursive.value[key] = number)),
      ...rangeOf("RecursiveOptions", key),
      ...more,
    });
    return [
      field("nk", "Delay", "samples"),
      field("na", "A", ""),
      field("nb", "B", ""),
      field("forgetting", "Forgetting", ""),
      field("covariance_bound", "Covariance bound", ""),
      field("dead_zone", "Dead zone", props.unit),
    ];
  }
  const h = horizon.value;
  const end = (list: number[], index: 0 | 1) => whenGiven((number) => (list[index] = number));
  return [
    {
      key: "window",
      label: "Window",
      unit: "s",
      value: h.window,
      set: whenGiven((v) => (h.window = v)),
      min: 0,
      exclusive: true,
    },
    {
      key: "every",
      label: "Moves by",
      unit: "s",
      value: h.every,
      set: (v) => (h.every = v),
      whenEmpty: "a fifth",
    },
    {
      key: "theta",
      label: "Dead time",
      unit: "s",
      value: h.dead_time,
      set: whenGiven((v) => (h.dead_time = v)),
      min: 0,
    },
    {
      key: "glow",
      label: "Gain from",
      unit: `${props.unit}/%`,
      value: h.gain[0] ?? null,
      set: end(h.gain, 0),
    },
    {
      key: "ghigh",
      label: "Gain to",
      unit: `${props.unit}/%`,
      value: h.gain[1] ?? null,
      set: end(h.gain, 1),
    },
    {
      key: "tlow",
      label: "Time constant from",
      unit: "s",
      value: h.time_constant[0] ?? null,
      set: end(h.time_constant, 0),
      min: 0,
      exclusive: true,
    },
    {
      key: "thigh",
      label: "Time constant to",
      unit: "s",
      value: h.time_constant[1] ?? null,
      set: end(h.time_constant, 1),
      min: 0,
      exclusive: true,
    },
    {
      key: "gstep",
      label: "Gain per step",
      unit: `${props.unit}/%`,
      value: h.gain_change,
      set: (v) => (h.gain_change = v),
      whenEmpty: "any",
    },
    {
      key: "tstep",
      label: "Time const. per step",
      unit: "s",
      value: h.time_constant_change,
      set: (v) => (h.time_constant_change = v),
      whenEmpty: "any",
    },
  ];
});

const panels = computed<Panel[]>(() => {
  const found = courses.value;
  if (!found) return [];
  const { times } = found;
  const wanted = found.courses.some((course) => course.name === "gain")
    ? found.courses.filter((course) => ["gain", "time_constant"].includes(course.name))
    : found.courses;
  const list: Panel[] = wanted.map((course) => ({
    key: course.name,
    title: inWords(course.name),
    unit: course.unit,
    curves: [
      {
        label: inWords(course.name),
        times,
        values: course.values,
        half: course.half_widths,
        colour: "--pv",
        width: 2,
      },
    ],
    weight: 1.5,
  }));
  list.push({
    key: "prediction",
    title: "PV and prediction",
    unit: props.unit,
    curves: [
      { label: "PV", times, values: found.measured, colour: "--measured", width: 1 },
      { label: "pred.", times, values: found.predicted, colour: "--op", dash: [5, 3] },
    ],
    weight: 1.3,
  });
  // Bands of the first samples are wide beyond sight: the axis follows what was learnt.
  for (const panel of list) {
    for (const curve of panel.curves) {
      if (!curve.half) continue;
      const late = curve.values
        .slice(Math.floor(curve.values.length / 5))
        .filter((v): v is number => v !== null);
      const reach = late.length
        ? Math.max(...late) - Math.min(...late) + Math.abs(late.at(-1) ?? 0)
        : Infinity;
      const usable = (k: number) => (curve.half?.[k] ?? Infinity) <= reach;
      curve.values = curve.values.map((v, k) =>
        v !== null && (usable(k) || k > curve.values.length / 5) ? v : null,
      );
      curve.half = curve.half.map((v, k) => (usable(k) ? v : null));
    }
  }
  return list;
});
const extent = computed<[number, number]>(() => [
  courses.value?.times[0] ?? 0,
  courses.value?.times.at(-1) ?? 1,
]);
</script>

<template>
  <div class="h-full min-h-0">
    <StateNotice v-if="!courses && problem" kind="failed" title="The parameters cannot be followed">{{
      problem
    }}</StateNotice>
    <StateNotice v-else-if="!courses" kind="loading" title="Parameters are followed through the record" />
    <TimeStrip v-else :panels="panels" :extent="extent" :label="`Parameters of ${tag} over time`" />
    <Teleport defer to="#view-settings">
      <form class="grid content-start gap-[6px]" @submit.prevent="run">
        <h1 class="heading">Over time</h1>
        <select v-model="method" class="entry mb-1" aria-label="Method" @change="run">
          <option value="recursive_least_squares">recursive least squares</option>
          <option value="moving_horizon">moving horizon, first order</option>
        </select>
        <FieldList :fields="fields" />
        <button type="submit" class="button button-main mt-1 justify-self-start" :disabled="busy">
          {{ busy ? "Following …" : "Follow" }}
        </button>
        <p v-if="problem" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ problem }}
        </p>
        <p class="text-[12.5px] text-soft">
          Shaded: 95 % band.
          <template v-if="method === 'recursive_least_squares'">
            Noise of the PV makes a difference equation read the time constant too short: resample by means
            first, or take the moving horizon.
          </template>
          <template v-else
            >Where the OP hardly moves in a window, the last fit is kept without a band.</template
          >
        </p>
      </form>
    </Teleport>
  </div>
</template>
