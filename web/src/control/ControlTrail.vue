<script setup lang="ts">
/**
 * The trail of Control. It stands on its own, so that an edit of the trial does not draw it anew: what it shows changes when
 * a row does.
 */
import { computed } from "vue";
import type { TrialRow } from "../api/client";
import RowMenu from "../components/RowMenu.vue";
import TrailTable from "../components/TrailTable.vue";
import { against, metricsFor, type Metric } from "../lib/comparison";
import { letter, number } from "../lib/format";
import { useLoop } from "../lib/loop";
import type { useKpis } from "./kpis";

interface Overlay {
  row: TrialRow;
  colour: string;
  dash: number[];
}

const props = defineProps<{
  rows: TrialRow[];
  /** The row that is looked at. */
  base: TrialRow | null;
  pinned: TrialRow | null;
  /** Rows that are laid over, by id. */
  over: Set<string>;
  overlays: Overlay[];
  pvUnit: string;
  kpis: ReturnType<typeof useKpis>;
  actionsOf: (row: TrialRow) => { title: string; act: () => unknown }[];
}>();
const emit = defineEmits<{ select: [row: TrialRow]; pin: [row: TrialRow]; layOver: [row: TrialRow] }>();
const { state } = useLoop();

const metrics = computed(() => metricsFor(props.pvUnit));
const columns = computed(() => [
  { key: "mark", title: "Trail", text: true },
  { key: "label", title: "changed", text: true },
  ...metrics.value.map(({ key, title, unit }) => ({ key, title, unit })),
  ...props.kpis.list.value.map((kpi) => ({ key: kpi.key, title: kpi.title, unit: kpi.unit })),
  { key: "actions", title: "", text: true },
]);

/** The unit of a figure where it is not that of the column: the trial is of a plant that is measured in another one. */
function ownUnit(metric: Metric, row: TrialRow): string {
  const own = row.trial.plant.pv.span.unit;
  if (own === props.pvUnit || metric.read(row.assessment) == null) return "";
  const unit = metricsFor(own).find((known) => known.key === metric.key)?.unit ?? "";
  return unit === metric.unit ? "" : unit;
}

/** What stands in a cell: the figure, its unit where it is another one, and how it stands against the pinned trial's. */
const cells = computed(
  () =>
    new Map(
      props.rows.flatMap((row) =>
        metrics.value.map((metric) => [
          `${row.id} ${metric.key}`,
          {
            value: number(metric.read(row.assessment)),
            unit: ownUnit(metric, row),
            beside: props.pinned && row.id !== props.pinned.id ? against(metric, row, props.pinned) : null,
          },
        ]),
      ),
    ),
);
const cell = (row: TrialRow, key: string) => cells.value.get(`${row.id} ${key}`);

/** The model that a trial stands on, where its record has changed since it was fitted. */
const staleModelOf = (row: TrialRow) =>
  state.models.find((model) => model.id === row.model_id && model.stale) ?? null;

function styleOf(row: TrialRow): { colour: string; dash: number[] } | null {
  if (row.id === props.base?.id) return { colour: "--pv", dash: [] };
  return props.overlays.find((overlay) => overlay.row.id === row.id) ?? null;
}
</script>

<template>
  <TrailTable
    label="Trials"
    :rows="rows"
    :columns="columns"
    :name-of="(row) => `Trial ${letter(row.number)}, ${row.label}`"
    :selected="base?.id ?? null"
    @select="emit('select', $event)"
  >
    <template #mark="{ row }">
      <svg width="30" height="8" class="mr-2 inline-block" aria-hidden="true">
        <line
          v-if="styleOf(row)"
          x1="0"
          x2="30"
          y1="4"
          y2="4"
          stroke-width="2.4"
          :style="{ stroke: `var(${styleOf(row)?.colour})` }"
          :stroke-dasharray="styleOf(row)?.dash.join(' ')"
        />
      </svg>
      <strong class="font-semibold">{{ letter(row.number) }}</strong>
      <span
        v-if="staleModelOf(row)"
        class="ml-1 text-caution"
        :title="`Model ${letter(staleModelOf(row)?.number ?? 0)}, which it stands on, is stale`"
        >△<span class="sr-only">its model is stale</span></span
      >
      <span
        v-if="row.of_older_engine"
        class="ml-1 text-caution"
        title="Its figures were computed by an older engine: compute them again in its menu"
        >△<span class="sr-only">its figures were computed by an older engine</span></span
      >
      <span v-if="row.starred" class="ml-1 text-dv" title="starred"
        >★<span class="sr-only">starred</span></span
      >
    </template>
    <template #label="{ row }">
      <span
        class="inline-block max-w-[280px] truncate align-bottom max-[1200px]:max-w-[150px]"
        :title="row.remark ? `${row.label}\n${row.remark}` : row.label"
        >{{ row.label }}</span
      >
    </template>
    <template v-for="metric in metrics" :key="metric.key" #[metric.key]="{ row }">
      {{ cell(row, metric.key)?.value }}
      <span v-if="cell(row, metric.key)?.unit" class="text-[11.5px] text-caution">{{
        cell(row, metric.key)?.unit
      }}</span>
      <span class="inline-block w-[46px] text-left text-[11.5px] max-[1200px]:w-[40px]">
        <span
          v-if="cell(row, metric.key)?.beside"
          :class="cell(row, metric.key)?.beside?.better ? 'text-pv' : 'text-dv'"
          :title="
            cell(row, metric.key)?.beside?.better ? 'better than the pinned one' : 'worse than the pinned one'
          "
        >
          {{ cell(row, metric.key)?.beside?.text }}
        </span>
      </span>
    </template>
    <template v-for="kpi in kpis.list.value" :key="kpi.key" #[kpi.key]="{ row }">
      {{ number(kpis.valueOf(row, kpi)) }}
      <span v-if="kpis.ownUnit(row, kpi)" class="text-[11.5px] text-caution">{{
        kpis.ownUnit(row, kpi)
      }}</span>
    </template>
    <template #actions="{ row }">
      <button
        type="button"
        class="button !px-2 !py-0 text-[12px]"
        :class="row.pinned ? '!font-bold' : '!text-soft'"
        :aria-pressed="row.pinned"
        :aria-label="`${row.pinned ? 'pinned' : 'pin'}: trial ${letter(row.number)}`"
        @click.stop="emit('pin', row)"
      >
        {{ row.pinned ? "pinned" : "pin" }}
      </button>
      <button
        v-if="row.id !== base?.id && !row.pinned"
        type="button"
        class="button ml-1 !px-2 !py-0 text-[12px]"
        :class="over.has(row.id) ? '!font-bold' : '!text-soft'"
        :aria-pressed="over.has(row.id)"
        :aria-label="`lay over: trial ${letter(row.number)}`"
        @click.stop="emit('layOver', row)"
      >
        lay over
      </button>
      <span v-if="row.id === base?.id && pinned && pinned.id !== row.id" class="ml-2 text-soft">
        <kbd class="key">space</kbd> flips
      </span>
      <RowMenu :name="`trial ${letter(row.number)}`" :actions="actionsOf(row)" />
    </template>
  </TrailTable>
</template>
