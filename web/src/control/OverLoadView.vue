<script setup lang="ts">
/** A plant over its range of operation: gain, lag and dead time at each load, and whether one setting does for all. */
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import VerdictNote from "../components/VerdictNote.vue";
import XyPlot from "../components/XyPlot.vue";
import { number } from "../lib/format";
import { comebacks } from "../lib/live";
import type { Line } from "../lib/xy";
import { readable } from "./events";

const props = defineProps<{ trial: Trial; description: Schemas["Description"] | null }>();
const emit = defineEmits<{ take: [trial: Trial, name: string] }>();

const over = ref("");
const found = shallowRef<Schemas["OverLoad"] | null>(null);
const failure = ref("");
let sent = 0;
let timer = 0;

/** Inputs that may change with load: all but the one that the OP drives. */
const inputs = computed(() => {
  const driven = props.trial.plant.drive?.input ?? props.description?.drive.input;
  return (props.description?.inputs ?? []).filter((one) => one.name !== driven);
});

async function look() {
  const ticket = ++sent;
  try {
    const body = { trial: props.trial, over: over.value || null };
    const answer = await answered(api.POST("/api/v1/plants/over-load", { body }));
    if (ticket !== sent) return;
    found.value = answer;
    failure.value = "";
  } catch (error) {
    if (ticket === sent) failure.value = messageOf(error);
  }
}
watch(
  [() => JSON.stringify([props.trial.plant, props.trial.candidate]), over, comebacks],
  () => {
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void look(), found.value ? 250 : 0);
  },
  { immediate: true },
);

const unit = computed(() => props.trial.plant.pv.span.unit);
type Point = Schemas["LoadPoint"];
/** A curve through the loads at which there is a value. */
function line(of: (point: Point) => number | null | undefined, colour: string, dash?: number[]): Line {
  const points = (found.value?.points ?? []).flatMap((point) => {
    const value = of(point);
    return value == null ? [] : [[point.at, value] as const];
  });
  return {
    x: points.map(([x]) => x),
    y: points.map(([, y]) => y),
    colour,
    width: 2.2,
    ...(dash ? { dash } : {}),
  };
}
const lagOf = ({ process }: Point) => (process && "time_constant" in process ? process.time_constant : null);
const plots = computed(() => [
  { title: "Gain", y: `${unit.value}/%`, lines: [line(({ process }) => process?.gain, "--pv")] },
  { title: "Time constant", y: "s", lines: [line(lagOf, "--pv")] },
  { title: "Dead time", y: "s", lines: [line(({ process }) => process?.dead_time, "--pv")] },
  {
    title: "Ms with these settings",
    y: "",
    lines: [line(({ max_sensitivity }) => max_sensitivity, "--op")],
    limit: true,
  },
]);
const across = computed(() => (found.value ? `${found.value.over}, ${found.value.unit}` : ""));
const nowhere = computed(() => (found.value?.points ?? []).filter((point) => point.op == null));
const unstable = computed(() =>
  (found.value?.points ?? []).filter((point) => point.op != null && point.max_sensitivity == null),
);
const points = computed(() => found.value?.scheduled?.schedule?.points ?? []);
</script>

<template>
  <StateNotice v-if="failure" kind="failed" title="The range cannot be looked at" :retry="look">{{
    failure
  }}</StateNotice>
  <StateNotice v-else-if="!found" kind="loading" title="The plant is looked at over its range" />
  <div v-else class="flex h-full min-h-0 flex-col gap-2 overflow-y-auto pr-3 pb-2">
    <div class="flex flex-wrap items-center gap-3">
      <label class="flex items-center gap-2">
        over
        <select v-model="over" class="entry" aria-label="What changes with load">
          <option value="">{{ trial.plant.pv.tag }} at rest</option>
          <option v-for="one in inputs" :key="one.name" :value="one.name">{{ readable(one.name) }}</option>
        </select>
      </label>
      <span v-if="nowhere.length" class="text-[12.5px] text-soft" :title="nowhere[0]?.why_not ?? ''">
        at {{ nowhere.length }} of {{ found.points.length }} loads the plant cannot rest
      </span>
      <span v-if="unstable.length" class="text-[12.5px] text-caution">
        △ unstable at {{ unstable.map((point) => number(point.at)).join(", ") }} {{ found.unit }}
      </span>
    </div>
    <VerdictNote :verdict="found.verdict" />
    <div class="grid min-h-[300px] flex-1 grid-cols-2 gap-2">
      <XyPlot
        v-for="plot in plots"
        :key="plot.title"
        :lines="plot.lines"
        :title="plot.title"
        :x-title="across"
        :y-title="plot.y"
        :band="plot.limit ? [1, 2] : undefined"
      />
    </div>
    <div v-if="points.length" class="flex flex-wrap items-center gap-x-4 gap-y-1 text-[13px]">
      <span>
        <span class="text-soft">schedule from SIMC at each load:</span>
        Kc {{ number(found.scheduled?.gain) }} %/%, Ti {{ number(found.scheduled?.integral_time) }} s, times
      </span>
      <span v-for="point in points" :key="point.at" class="whitespace-nowrap">
        <span class="text-soft">at {{ number(point.at) }}{{ over ? ` ${found.unit}` : " %" }}</span>
        {{ number(point.gain_factor) }} · {{ number(point.time_factor) }}
      </span>
      <button
        v-if="found.proof"
        type="button"
        class="button"
        title="through the range, from load to load"
        @click="found.proof && emit('take', found.proof, `gain schedule over ${found.over}`)"
      >
        Try the schedule through the range
      </button>
    </div>
  </div>
</template>
