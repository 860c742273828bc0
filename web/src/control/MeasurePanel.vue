<script setup lang="ts">
/** Metrics of any signal, over any window and against any limits. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import FieldList from "../components/FieldList.vue";
import type { Field } from "../lib/field";
import { duration, number } from "../lib/format";
import { choicesOf } from "./events";
import { READS, type useKpis } from "./kpis";
import { comebacks } from "../lib/live";

const props = defineProps<{
  trial: Trial;
  trace: Schemas["Trace"];
  kpis: ReturnType<typeof useKpis>;
}>();

const tag = ref(props.trial.plant.pv.tag);
const from = ref<number | null>(null);
const to = ref<number | null>(null);
const low = ref<number | null>(null);
const high = ref<number | null>(null);
const found = ref<Schemas["SignalMetrics"] | null>(null);
const problem = ref("");
let sent = 0;

const column = computed(() => props.trace.columns.find((known) => known.tag === tag.value));
const unit = computed(() => column.value?.unit ?? "");

watch(
  () => props.trial.plant.pv.tag,
  (now) => (tag.value = now),
);

watch(
  () => [props.trial, tag.value, from.value, to.value, low.value, high.value, comebacks.value] as const,
  async ([trial]) => {
    const ticket = ++sent;
    try {
      const answer = await answered(
        api.POST("/api/v1/metrics", {
          body: {
            trial,
            question: { tag: tag.value, from: from.value, to: to.value, low: low.value, high: high.value },
          },
        }),
      );
      if (ticket !== sent) return;
      found.value = answer;
      problem.value = "";
    } catch (error) {
      if (ticket === sent) problem.value = messageOf(error);
    }
  },
  { immediate: true },
);

const fields = computed<Field[]>(() => {
  const end = props.trial.scenario.duration;
  return [
    {
      key: "from",
      label: "From",
      unit: "s",
      min: 0,
      max: end,
      whenEmpty: "start",
      value: from.value,
      set: (v) => (from.value = v),
    },
    {
      key: "to",
      label: "To",
      unit: "s",
      min: 0,
      max: end,
      whenEmpty: "end",
      value: to.value,
      set: (v) => (to.value = v),
    },
    {
      key: "low",
      label: "Low limit",
      unit: unit.value,
      whenEmpty: "none",
      value: low.value,
      set: (v) => (low.value = v),
    },
    {
      key: "high",
      label: "High limit",
      unit: unit.value,
      whenEmpty: "none",
      value: high.value,
      set: (v) => (high.value = v),
    },
  ];
});

/** The figure as a column of the trail, for the window and limits that are set. */
function toggleColumn(name: string) {
  const question = { tag: tag.value, from: from.value, to: to.value, low: low.value, high: high.value };
  if (found.value) props.kpis.toggle(name, question, found.value);
}
const isColumn = (name: string) => props.kpis.has(name, tag.value);

const figures = computed<[string, string][]>(() => {
  const m = found.value;
  if (!m) return [];
  const u = m.unit;
  const rows: [string, string | null][] = [
    ["mean", `${number(m.mean, 4)} ${u}`],
    ["standard deviation", `${number(m.standard_deviation)} ${u}`],
    ["lowest", `${number(m.lowest, 4)} ${u}`],
    ["highest", `${number(m.highest, 4)} ${u}`],
    ["travel", `${number(m.travel)} ${u}`],
    ["reversals", String(m.reversals)],
    ["used", m.used ? `${number(m.used.amount, 4)} ${m.used.unit}` : null],
    ["IAE", m.integral_absolute_error == null ? null : `${number(m.integral_absolute_error)} ${u}·s`],
    ["ISE", m.integral_squared_error == null ? null : `${number(m.integral_squared_error)} ${u}²·s`],
    [
      "ITAE",
      m.integral_time_absolute_error == null ? null : `${number(m.integral_time_absolute_error)} ${u}·s²`,
    ],
    ["maximum deviation", m.max_deviation == null ? null : `${number(m.max_deviation)} ${u}`],
    ["offset", m.offset == null ? null : `${number(m.offset)} ${u}`],
    ["noise, taken out below", m.step?.noise ? `${number(m.step.noise)} ${u}` : null],
    ["overshoot", m.step ? `${number(m.step.overshoot_percent)} %` : null],
    ["rise 10–90 %", m.step ? duration(m.step.rise_time) : null],
    ["settling ±5 %", m.step ? duration(m.step.settling_time_5) : null],
    ["time outside", m.outside ? duration(m.outside.time) : null],
    ["area outside", m.outside ? `${number(m.outside.area)} ${u}·s` : null],
    ["violations", m.outside ? String(m.outside.violations) : null],
    ["worst beyond", m.outside ? `${number(m.outside.worst)} ${u}` : null],
  ];
  return rows.filter((row): row is [string, string] => row[1] !== null);
});
</script>

<template>
  <div class="grid grid-cols-1 gap-[6px]">
    <ChoiceField
      v-model="tag"
      label="Signal"
      :choices="choicesOf(trace.columns.map((column) => ({ name: column.tag, unit: column.unit })))"
    />
    <FieldList :fields="fields" />
    <p v-if="problem" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ problem }}</p>
    <p class="text-[12px] text-soft">▢ shows a figure as a column of the trail.</p>
    <dl
      class="grid grid-cols-[1fr_auto] gap-x-3 gap-y-[2px] border-t border-rule pt-2"
      aria-label="Metrics of the signal"
    >
      <template v-for="[name, value] in figures" :key="name">
        <dt class="text-soft">
          <button
            v-if="name in READS"
            type="button"
            class="text-left hover:text-ink"
            :aria-pressed="isColumn(name)"
            :title="isColumn(name) ? 'take the column off the trail' : 'show as a column of the trail'"
            @click="toggleColumn(name)"
          >
            <span aria-hidden="true">{{ isColumn(name) ? "▣" : "▢" }}</span> {{ name }}
          </button>
          <template v-else>{{ name }}</template>
        </dt>
        <dd class="text-right font-semibold">{{ value }}</dd>
      </template>
    </dl>
  </div>
</template>
