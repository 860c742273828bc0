<script setup lang="ts">
/** What a sweep varies, and how far it is. */
import { computed, watch } from "vue";
import type { Schemas, Trial } from "../api/client";
import FieldList from "../components/FieldList.vue";
import { whenGiven, type Field } from "../lib/field";
import { number } from "../lib/format";
import { readable } from "./events";
import { mostValues, rangeAbout, sweptMetrics, type Target, type useSweep } from "./sweep";

const props = defineProps<{
  trial: Trial;
  description: Schemas["Description"] | null;
  sweep: ReturnType<typeof useSweep>;
  /** The signals of the trial as it is now. */
  columns: Schemas["Column"][];
}>();

const { targets: all, groups } = props.sweep;
const signal = computed(
  () => props.columns.find((column) => column.tag === props.sweep.question.tag) ?? null,
);
const metrics = computed(() => sweptMetrics(props.trial.plant.pv.span.unit, signal.value));

function setSignal(tag: string) {
  const { question, metric } = props.sweep;
  Object.assign(question, { tag, low: null, high: null });
  metric.value = tag ? "signal-mean" : "iae";
}

const limits = computed<Field[]>(() =>
  (["low", "high"] as const).map((end) => ({
    key: end,
    label: end === "low" ? "Low limit" : "High limit",
    unit: signal.value?.unit ?? "",
    whenEmpty: "none",
    value: props.sweep.question[end],
    set: (value) => {
      const { question } = props.sweep;
      question[end] = value;
    },
  })),
);

function targetOf(pointer: string): Target | undefined {
  return all.value.find((target) => target.pointer === pointer);
}

function choose(index: number, pointer: string) {
  const { axes } = props.sweep;
  const target = targetOf(pointer);
  if (!target) {
    axes.splice(index, 1);
    return;
  }
  axes[index] = rangeAbout(target, axes.length > 1 || index > 0 ? 15 : 25);
}

watch(
  all,
  (targets) => {
    const gain = targets.find((target) => target.pointer.endsWith("/gain")) ?? targets[0];
    if (props.sweep.axes.length === 0 && gain) choose(0, gain.pointer);
  },
  { immediate: true },
);

function fields(index: number): Field[] {
  const axis = props.sweep.axes[index];
  if (!axis) return [];
  const target = targetOf(axis.pointer);
  const unit = target?.unit ?? "";
  const range = { min: target?.low ?? undefined, max: target?.high ?? undefined };
  const whole = (value: number) => (target?.whole ? Math.round(value) : value);
  return [
    {
      key: "from",
      label: "From",
      unit,
      ...range,
      value: axis.from,
      set: whenGiven((value) => (axis.from = whole(value))),
    },
    {
      key: "to",
      label: "To",
      unit,
      ...range,
      value: axis.to,
      set: whenGiven((value) => (axis.to = whole(value))),
    },
    {
      key: "count",
      label: "Values",
      unit: "",
      min: 2,
      max: mostValues(target, axis),
      value: axis.count,
      set: whenGiven((value) => (axis.count = Math.round(value))),
    },
  ];
}

function setByRatio(index: number, byRatio: boolean) {
  const axis = props.sweep.axes[index];
  if (axis) axis.by_ratio = byRatio;
}

function setMetric(key: string) {
  const { metric } = props.sweep;
  metric.value = key;
}

const trials = computed(() => props.sweep.axes.reduce((product, axis) => product * axis.count, 1));
</script>

<template>
  <div class="grid grid-cols-1 gap-[6px]">
    <h1 class="heading">Sweep</h1>
    <template v-for="index in [0, 1]" :key="index">
      <label
        v-if="index === 0 || sweep.axes.length > 0"
        class="grid grid-cols-[minmax(0,1fr)_190px] items-center gap-2"
      >
        {{ index === 0 ? "Over" : "and over" }}
        <select
          class="entry"
          :aria-label="index === 0 ? 'Swept number' : 'Second swept number'"
          :value="sweep.axes[index]?.pointer ?? ''"
          @change="choose(index, ($event.target as HTMLSelectElement).value)"
        >
          <option v-if="index === 1" value="">nothing else</option>
          <optgroup v-for="group in groups" :key="group.group" :label="group.group">
            <option v-for="target in group.targets" :key="target.pointer" :value="target.pointer">
              {{ target.title }}, now {{ number(target.value) }} {{ target.unit }}
            </option>
          </optgroup>
        </select>
      </label>
      <template v-if="sweep.axes[index]">
        <FieldList :fields="fields(index)" />
        <label class="flex items-center gap-2 pb-1">
          <input
            type="checkbox"
            :checked="sweep.axes[index].by_ratio"
            @change="setByRatio(index, ($event.target as HTMLInputElement).checked)"
          />
          logarithmic spacing
        </label>
      </template>
    </template>
    <label class="grid grid-cols-[minmax(0,1fr)_190px] items-center gap-2 border-t border-rule pt-2">
      Also measure
      <select
        class="entry"
        :value="sweep.question.tag"
        @change="setSignal(($event.target as HTMLSelectElement).value)"
      >
        <option value="">no other signal</option>
        <option v-for="column in columns" :key="column.tag" :value="column.tag">
          {{ readable(column.tag) }} ({{ column.unit || "–" }})
        </option>
      </select>
    </label>
    <FieldList v-if="sweep.question.tag" :fields="limits" />
    <label class="grid grid-cols-[minmax(0,1fr)_190px] items-center gap-2">
      Metric
      <select
        class="entry"
        :value="sweep.metric.value"
        @change="setMetric(($event.target as HTMLSelectElement).value)"
      >
        <option v-for="metric in metrics" :key="metric.key" :value="metric.key">
          {{ metric.title }}{{ metric.unit ? `, ${metric.unit}` : "" }}
        </option>
      </select>
    </label>
    <div class="flex items-center gap-2">
      <button
        v-if="!sweep.running.value"
        type="button"
        class="button button-main"
        :disabled="sweep.axes.length === 0"
        @click="sweep.run()"
      >
        Run {{ trials }} trials
      </button>
      <template v-else>
        <button type="button" class="button" @click="sweep.cancel()">Cancel the sweep</button>
        <progress
          class="h-2 min-w-0 flex-1 accent-(--pv)"
          :value="sweep.share.value"
          max="1"
          aria-label="Sweep"
        />
        <span class="text-soft">{{ Math.round(100 * sweep.share.value) }} %</span>
      </template>
    </div>
    <p v-if="sweep.problem.value" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
      {{ sweep.problem.value }}
    </p>
    <p v-if="sweep.outcome.value" class="text-soft">
      {{ sweep.outcome.value.points.length }} trials in {{ number(sweep.outcome.value.seconds) }} s<template
        v-if="sweep.isStale.value"
      >
        <strong class="ml-1 font-semibold text-caution">△ of a trial that has changed since</strong></template
      >
    </p>
  </div>
</template>
