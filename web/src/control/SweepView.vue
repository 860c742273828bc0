<script setup lang="ts">
/** What came out of a sweep: the family of curves with the metric against the number, or a map over two. */
import { computed, ref } from "vue";
import type { Schemas, Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import XyPlot from "../components/XyPlot.vue";
import { number, timeUnit } from "../lib/format";
import type { Line } from "../lib/xy";
import SweepMap from "./SweepMap.vue";
import { sweptMetrics, type useSweep } from "./sweep";

const props = defineProps<{
  trial: Trial;
  description: Schemas["Description"] | null;
  sweep: ReturnType<typeof useSweep>;
  columns: Schemas["Column"][];
}>();
const emit = defineEmits<{ take: [changes: { pointer: string; value: number }[]] }>();

const outcome = computed(() => props.sweep.outcome.value);
const axes = computed(() => props.sweep.sweptAxes.value);
const unit = computed(() => props.trial.plant.pv.span.unit);
const metric = computed(() => {
  const signal = props.columns.find((column) => column.tag === props.sweep.question.tag) ?? null;
  const all = sweptMetrics(unit.value, signal);
  return all.find((known) => known.key === props.sweep.metric.value) ?? all[0];
});
const metricTitle = computed(
  () => `${metric.value?.title}${metric.value?.unit ? `, ${metric.value.unit}` : ""}`,
);

function titleOf(index: number): string {
  const pointer = axes.value[index]?.pointer;
  const target = props.sweep.targets.value.find((known) => known.pointer === pointer);
  return target ? `${target.title}${target.unit ? `, ${target.unit}` : ""}` : (pointer ?? "");
}

/** The metric of each trial; null where it was refused or was not reached. */
const values = computed(() =>
  (outcome.value?.points ?? []).map((point) =>
    point.outcome ? (metric.value?.read(point.outcome) ?? null) : null,
  ),
);

const refused = computed(() => outcome.value?.points.filter((point) => point.refusal) ?? []);
const stopped = computed(() => outcome.value?.points.filter((point) => point.outcome?.stopped) ?? []);

const chosen = ref<number | null>(null);

const time = computed(() => timeUnit(props.trial.scenario.duration));
const family = computed<Line[]>(() => {
  const points = outcome.value?.points ?? [];
  const drawn = points
    .map((point, index) => ({ point, index }))
    .filter(({ point }) => (point.outcome?.pv.length ?? 0) > 0);
  // The first, the middle and the last stand out, the others show where the family runs.
  const styles = new Map<number | undefined, { colour: string; dash: number[] }>([
    [drawn[Math.floor(drawn.length / 2)]?.index, { colour: "--pv", dash: [] }],
    [drawn[0]?.index, { colour: "--over-2", dash: [7, 4] }],
    [drawn.at(-1)?.index, { colour: "--over-3", dash: [2, 3] }],
  ]);
  const lines = drawn.map(({ point, index }): Line => {
    const pv = point.outcome?.pv ?? [];
    const interval = point.outcome?.interval ?? 1;
    const isChosen = index === chosen.value;
    const style = styles.get(index);
    return {
      x: pv.map((_, k) => (k * interval) / time.value.seconds),
      y: pv,
      colour: isChosen ? "--op" : (style?.colour ?? "--measured"),
      dash: isChosen ? [] : style?.dash,
      width: isChosen ? 2.8 : style ? 2 : 0.6,
      label: isChosen || style ? number(point.values[0]) : undefined,
    };
  });
  // Thick ones over thin ones.
  lines.sort((a, b) => (a.width ?? 0) - (b.width ?? 0));
  return lines;
});

const curve = computed<Line[]>(() => {
  const x = (outcome.value?.points ?? []).map((point) => point.values[0] as number);
  return [
    { x, y: values.value, colour: "--pv", width: 2.4 },
    { x, y: values.value, colour: "--pv", kind: "points" },
  ];
});

/** Where the trial stands now on each axis. */
const now = computed(() =>
  axes.value.map(
    (axis) => props.sweep.targets.value.find((known) => known.pointer === axis.pointer)?.value ?? null,
  ),
);
const current = computed(() => now.value[0] ?? null);

/** Where the best lies at an end of what was swept, a wider sweep may find a better one. */
const atEdge = computed(() => {
  const index = best.value;
  const point = index === null ? null : outcome.value?.points[index];
  if (!point) return "";
  const ends = axes.value.flatMap((axis, k) => {
    const value = point.values[k] as number;
    const isEnd = [axis.from, axis.to].some((end) => Math.abs(end - value) <= 1e-9 * Math.abs(end));
    return isEnd ? [titleOf(k).split(",")[0]] : [];
  });
  return ends.length
    ? `The best lies at the edge of the sweep (${ends.join(" and ")}): a better one may lie beyond.`
    : "";
});

/** The trial with the best metric. */
const best = computed(() => {
  let found: number | null = null;
  values.value.forEach((value, index) => {
    if (value === null || outcome.value?.points[index]?.outcome?.stopped) return;
    const before = found === null ? null : (values.value[found] as number);
    const isBetter =
      metric.value?.better === "higher" ? value > (before ?? -Infinity) : value < (before ?? Infinity);
    if (isBetter) found = index;
  });
  return found as number | null;
});

function take(index: number) {
  const point = outcome.value?.points[index];
  if (point)
    emit(
      "take",
      axes.value.map((axis, k) => ({
        pointer: axis.pointer,
        value: Number((point.values[k] as number).toPrecision(4)),
      })),
    );
}

function words(index: number): string {
  const point = outcome.value?.points[index];
  const each = (point?.values ?? []).map((value, k) => {
    const [title, ...unit] = titleOf(k).split(", ");
    return `${title} ${number(value)} ${unit.join(", ")}`.trim();
  });
  return each.join(", ");
}
</script>

<template>
  <StateNotice
    v-if="!outcome"
    :kind="sweep.running.value ? 'loading' : 'empty'"
    :title="sweep.running.value ? 'The trials are being run' : 'No sweep yet'"
  >
    <template v-if="!sweep.running.value">
      Choose a number of the trial at the right and run: every value gives a trial, on all cores.
    </template>
  </StateNotice>
  <div v-else class="flex h-full min-h-0 flex-col gap-1 pr-3 pb-1">
    <template v-if="axes.length === 1">
      <XyPlot
        class="min-h-0 flex-[3]"
        :lines="family"
        :title="`${trial.plant.pv.tag} over ${titleOf(0)}`"
        :x-title="time.symbol"
        :y-title="unit"
      />
      <XyPlot
        class="min-h-0 flex-[2]"
        :lines="curve"
        :title="metricTitle"
        :x-title="titleOf(0)"
        :log-x="axes[0]?.by_ratio"
        :marks="current === null ? [] : [{ x: current, label: 'now' }]"
      />
    </template>
    <SweepMap
      v-else
      v-model="chosen"
      class="min-h-0 flex-1"
      :axes="outcome.axes"
      :values="values"
      :titles="[titleOf(0), titleOf(1)]"
      :title="metricTitle"
      :best="best"
      :now="now"
    />
    <div class="flex flex-wrap items-center gap-x-4 gap-y-1 pb-1">
      <span v-if="best !== null">
        <span class="text-soft">best</span>
        <strong class="mx-1 font-semibold">{{ number(values[best]) }} {{ metric?.unit }}</strong>
        <span class="text-soft">at</span> {{ words(best) }}
        <button type="button" class="button ml-2 !py-0" @click="take(best)">Take it</button>
      </span>
      <span v-if="atEdge" class="text-caution">△ {{ atEdge }}</span>
      <span v-if="chosen !== null && chosen !== best">
        <span class="text-soft">chosen</span>
        <strong class="mx-1 font-semibold">{{ number(values[chosen]) }} {{ metric?.unit }}</strong>
        <span class="text-soft">at</span> {{ words(chosen) }}
        <button type="button" class="button ml-2 !py-0" @click="take(chosen)">Take it</button>
      </span>
      <label v-if="axes.length === 1" class="flex items-center gap-2">
        <span class="text-soft">show</span>
        <select
          class="entry"
          aria-label="Trial of the sweep"
          :value="chosen ?? ''"
          @change="
            chosen =
              ($event.target as HTMLSelectElement).value === ''
                ? null
                : Number(($event.target as HTMLSelectElement).value)
          "
        >
          <option value="">all alike</option>
          <option v-for="(point, k) in outcome.points" :key="k" :value="k">
            {{ number(point.values[0]) }}
          </option>
        </select>
      </label>
      <span v-if="values.every((value) => value === null)" class="text-caution">
        △ no trial has this metric: choose another at the right, or a scenario with such an event
      </span>
      <span v-if="refused.length" class="text-caution" :title="refused[0]?.refusal ?? ''">
        △ {{ refused.length }} refused: {{ refused[0]?.refusal }}
      </span>
      <span v-if="stopped.length" class="text-caution">△ {{ stopped.length }} stopped before their end</span>
    </div>
  </div>
</template>
