<script setup lang="ts">
import { computed, onMounted, ref } from "vue";
import {
  answered,
  api,
  messageOf,
  type Schemas,
  type Trial,
  type TrialResult,
  type TrialRow,
} from "../api/client";
import CandidateMargin from "../components/CandidateMargin.vue";
import LoopFigures from "../components/LoopFigures.vue";
import StateNotice from "../components/StateNotice.vue";
import StepFrame from "../components/StepFrame.vue";
import TimeStrip from "../components/TimeStrip.vue";
import TrailTable from "../components/TrailTable.vue";
import VerdictNote from "../components/VerdictNote.vue";
import { against, metricsFor } from "../lib/comparison";
import { useDraft } from "../lib/draft";
import { letter, number, signed } from "../lib/format";
import { useKeys } from "../lib/keys";
import { useLoop } from "../lib/loop";
import { useSelected } from "../lib/query";
import { OVERLAYS, type Curve, type Mark, type Panel } from "../lib/strip";
import { traceOf } from "../lib/traces";

const loop = useLoop();
const { state } = loop;
const selected = useSelected("trial");
const laidOver = useSelected("over");
const base = computed(() => state.trials.find((row) => row.id === selected.value) ?? state.trials[0] ?? null);
const pinned = computed(() => state.trials.find((row) => row.pinned) ?? null);
const hasModel = computed(() => state.models.some((model) => model.chosen));
const failure = ref("");
const flipped = ref(false);

const { draft, result, refusal, isChanged, change, adopt, keep, simulate } = useDraft(loop, base, (id) => {
  selected.value = id;
});

/** τc, as long as the settings are those that SIMC gives for one. */
const closedLoopTimeConstant = computed(() => {
  const known = result.value?.simc_time_constant;
  return known ? Number(known.toPrecision(3)) : null;
});

async function propose() {
  failure.value = "";
  if (base.value || !hasModel.value) return;
  try {
    const first = await answered(
      api.POST("/api/v1/loops/{tag}/propose", {
        params: { path: { tag: state.tag } },
        body: { model_id: null, choice: { closed_loop_time_constant: null } },
      }),
    );
    const timeConstant = first.tuning.closed_loop_time_constant;
    adopt(first.trial, `SIMC, τc = ${number(timeConstant)} s`, first.model_id);
    await keep();
  } catch (error) {
    failure.value = messageOf(error);
  }
}

onMounted(propose);

async function tune(timeConstant: number) {
  const trial = draft.value;
  if (!trial) return;
  try {
    const tuning = await answered(
      api.POST("/api/v1/tune", {
        body: {
          process: trial.plant.process,
          pv_span: trial.plant.pv.span,
          choice: { closed_loop_time_constant: timeConstant },
        },
      }),
    );
    change(
      (next) => {
        const before = next.candidate.controller;
        const limits = before.kind === "pid" ? { output_limits: before.output_limits } : {};
        next.candidate = { controller: { kind: "pid", ...tuning.to_type_in, ...limits } };
      },
      `SIMC, τc = ${number(timeConstant)} s`,
    );
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

/** A trial on the chosen model in place of the one that the row stands on. */
async function renew() {
  try {
    const fresh = await answered(
      api.POST("/api/v1/loops/{tag}/propose", {
        params: { path: { tag: state.tag } },
        body: { model_id: null, choice: { closed_loop_time_constant: null } },
      }),
    );
    const chosen = state.models.find((model) => model.id === fresh.model_id);
    const timeConstant = fresh.tuning.closed_loop_time_constant;
    adopt(
      fresh.trial,
      `model ${letter(chosen?.number ?? 0)}, SIMC, τc = ${number(timeConstant)} s`,
      fresh.model_id,
    );
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

const isOnChosenModel = computed(() => {
  const chosen = state.models.find((model) => model.chosen);
  return !chosen || !base.value?.model_id || base.value.model_id === chosen.id;
});

const over = computed(() => new Set((laidOver.value ?? "").split(",").filter(Boolean)));

function toggleOver(row: TrialRow) {
  const next = new Set(over.value);
  if (!next.delete(row.id)) next.add(row.id);
  laidOver.value = next.size ? [...next].slice(-OVERLAYS.length).join(",") : null;
}

async function pin(row: TrialRow) {
  try {
    await answered(
      api.PUT("/api/v1/trials/{id}/pin", { params: { path: { id: row.id } }, body: { pinned: !row.pinned } }),
    );
    await loop.refreshTrials();
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

/** Rows under the current curve: the pinned one first, then those laid over; each keeps its style. */
const overlays = computed(() => {
  const rows = state.trials.filter(
    (row) => (row.pinned || over.value.has(row.id)) && row.id !== base.value?.id,
  );
  rows.sort((a, b) => Number(b.pinned) - Number(a.pinned) || a.number - b.number);
  return rows
    .slice(0, OVERLAYS.length)
    .map((row, k) => ({ row, ...(OVERLAYS[k] as (typeof OVERLAYS)[number]) }));
});

const isFlipped = computed(
  () => flipped.value && pinned.value !== null && pinned.value.id !== base.value?.id,
);
const shown = computed<{ name: string; result: TrialResult | null; trial: Trial | null }>(() => {
  if (isFlipped.value && pinned.value) {
    return { name: letter(pinned.value.number), result: traceOf(pinned.value.id), trial: pinned.value.trial };
  }
  const name = base.value && !isChanged.value ? letter(base.value.number) : "draft";
  return { name, result: result.value, trial: draft.value };
});

function column(trace: Schemas["Trace"], role: Schemas["ColumnRole"]): number[] {
  return trace.columns.find((known) => known.role === role)?.values ?? [];
}

const axes = new WeakMap<Schemas["Trace"], number[]>();
function timesOf(trace: Schemas["Trace"]): number[] {
  let times = axes.get(trace);
  if (!times) {
    times = (trace.columns[0]?.values ?? []).map((_, k) => k * trace.scan);
    axes.set(trace, times);
  }
  return times;
}

const panels = computed<Panel[]>(() => {
  const { name, result: main, trial } = shown.value;
  if (!main || !trial) return [];
  const { trace } = main;
  const times = timesOf(trace);
  const curve = (role: Schemas["ColumnRole"], rest: Partial<Curve>): Curve => ({
    label: name,
    times,
    values: column(trace, role),
    colour: "--pv",
    ...rest,
  });
  const under = (role: Schemas["ColumnRole"], stepped: boolean): Curve[] =>
    (isFlipped.value ? [] : overlays.value).flatMap(({ row, colour, dash }) => {
      const other = traceOf(row.id)?.trace;
      if (!other) return [];
      const values = column(other, role);
      return [
        {
          label: letter(row.number),
          times: timesOf(other),
          values,
          colour,
          dash,
          stepped,
          width: 1.6,
          faint: true,
        },
      ];
    });
  const unit = trial.plant.pv.span.unit;
  const load = main.assessment.metrics.load_responses[0];
  const setPoint = column(trace, "set_point").at(-1) ?? 0;
  const bands = load
    ? [
        {
          from: load.at,
          to: Infinity,
          low: setPoint - load.recovery_band,
          high: setPoint + load.recovery_band,
        },
      ]
    : [];
  const end = times.at(-1) ?? 0;
  return [
    {
      key: "pv",
      title: trial.plant.pv.tag,
      unit,
      weight: 3.2,
      bands: bands.map((band) => ({ ...band, to: end })),
      curves: [
        curve("process_variable", { width: 2.4 }),
        ...under("process_variable", false),
        curve("set_point", { label: "SP", colour: "--ink", dash: [5, 4], width: 1.2, stepped: true }),
      ],
    },
    {
      key: "op",
      title: trial.plant.op.tag,
      unit: "%",
      weight: 1.7,
      limits: trace.output_limits,
      curves: [curve("output", { colour: "--op", stepped: true, width: 2 }), ...under("output", true)],
    },
    {
      key: "load",
      title: "load",
      unit: "% OP, at the process input",
      weight: 0.8,
      curves: [curve("load", { label: "load", colour: "--dv", stepped: true, fillTo: 0, width: 1.4 })],
    },
  ];
});

const marks = computed<Mark[]>(() =>
  (shown.value.trial?.scenario.events ?? []).map((event) =>
    event.kind === "set_point_step"
      ? {
          time: event.at,
          label: `SP ${signed(event.by)} ${shown.value.trial?.plant.pv.span.unit}`,
          colour: "--ink",
        }
      : { time: event.at, label: `load ${signed(event.by)} %`, colour: "--dv" },
  ),
);

function drawn() {
  if (performance.getEntriesByName("antistasis-change").length === 0) return;
  requestAnimationFrame(() => {
    if (performance.getEntriesByName("antistasis-change").length === 0) return;
    performance.measure("antistasis-change-to-curve", "antistasis-change");
    performance.clearMarks("antistasis-change");
  });
}

const metrics = computed(() => metricsFor(state.detail?.pv.span.unit ?? ""));
const columns = computed(() => [
  { key: "mark", title: "Trail", text: true },
  { key: "label", title: "changed", text: true },
  ...metrics.value.map(({ key, title, unit }) => ({ key, title, unit })),
  { key: "actions", title: "", text: true },
]);

function styleOf(row: TrialRow): { colour: string; dash: number[] } | null {
  if (row.id === base.value?.id) return { colour: "--pv", dash: [] };
  return overlays.value.find((overlay) => overlay.row.id === row.id) ?? null;
}

useKeys({
  " ": () => (flipped.value = !flipped.value),
  o: () => base.value && toggleOver(base.value),
  p: () => base.value && void pin(base.value),
});
</script>

<template>
  <StepFrame>
    <template #strip>
      <StateNotice v-if="failure" kind="failed" title="No trial can be proposed" :retry="() => propose()">
        {{ failure }}
      </StateNotice>
      <StateNotice v-else-if="!hasModel && !base" kind="empty" title="Nothing to control yet">
        A trial needs a model of the process: fit one at Model first.
      </StateNotice>
      <StateNotice
        v-else-if="panels.length === 0 && refusal"
        kind="failed"
        title="The trial cannot be run"
        :retry="() => simulate()"
      >
        {{ refusal }}
      </StateNotice>
      <StateNotice v-else-if="panels.length === 0" kind="loading" title="The loop is being simulated" />
      <TimeStrip
        v-else
        :panels="panels"
        :marks="marks"
        :label="`Simulated loop ${state.tag}: PV with set point, OP, load`"
        @drawn="drawn"
      />
    </template>
    <template #margin>
      <template v-if="draft">
        <h1 class="heading mb-2 flex items-baseline justify-between">
          <span>
            Candidate {{ base && !isChanged ? letter(base.number) : "draft" }}
            <span v-if="isFlipped" class="text-caution"> · showing {{ letter(pinned?.number ?? 0) }}</span>
          </span>
          <span class="text-[12.5px] font-normal text-soft">PID, ideal form, % of span</span>
        </h1>
        <CandidateMargin
          :trial="draft"
          :closed-loop-time-constant="closedLoopTimeConstant"
          @change="change($event)"
          @tune="tune"
          @settled="keep"
        />
        <p v-if="refusal" class="mt-2 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ refusal }}
        </p>
        <button v-if="!isOnChosenModel" type="button" class="button mt-2" @click="renew">
          Begin anew on the chosen model
        </button>
        <div v-if="shown.result" class="mt-3 grid gap-2" :class="refusal ? 'opacity-50' : ''">
          <LoopFigures :assessment="shown.result.assessment" :pv-unit="state.detail?.pv.span.unit ?? ''" />
          <VerdictNote
            v-for="verdict in shown.result.assessment.verdicts"
            :key="verdict.text"
            :verdict="verdict"
          />
        </div>
      </template>
    </template>
    <template #trail>
      <TrailTable
        v-if="state.trials.length"
        label="Trials"
        :rows="state.trials"
        :columns="columns"
        :selected="base?.id ?? null"
        @select="selected = $event.id"
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
        </template>
        <template #label="{ row }">
          <span
            class="inline-block max-w-[280px] truncate align-bottom max-[1200px]:max-w-[150px]"
            :title="row.label"
            >{{ row.label }}</span
          >
        </template>
        <template v-for="metric in metrics" :key="metric.key" #[metric.key]="{ row }">
          {{ number(metric.read(row.assessment)) }}
          <span class="inline-block w-[46px] text-left text-[11.5px] max-[1200px]:w-[40px]">
            <template v-if="pinned && row.id !== pinned.id">
              <span
                v-if="against(metric, metric.read(row.assessment), metric.read(pinned.assessment))"
                :class="
                  against(metric, metric.read(row.assessment), metric.read(pinned.assessment))?.better
                    ? 'text-pv'
                    : 'text-dv'
                "
                :title="
                  against(metric, metric.read(row.assessment), metric.read(pinned.assessment))?.better
                    ? 'better than the pinned one'
                    : 'worse than the pinned one'
                "
              >
                {{ against(metric, metric.read(row.assessment), metric.read(pinned.assessment))?.text }}
              </span>
            </template>
          </span>
        </template>
        <template #actions="{ row }">
          <button
            type="button"
            class="button !px-2 !py-0 text-[12px]"
            :class="row.pinned ? '!font-bold' : '!text-soft'"
            :aria-pressed="row.pinned"
            @click.stop="pin(row)"
          >
            {{ row.pinned ? "pinned" : "pin" }}
          </button>
          <button
            v-if="row.id !== base?.id && !row.pinned"
            type="button"
            class="button ml-1 !px-2 !py-0 text-[12px]"
            :class="over.has(row.id) ? '!font-bold' : '!text-soft'"
            :aria-pressed="over.has(row.id)"
            @click.stop="toggleOver(row)"
          >
            lay over
          </button>
          <span v-if="row.id === base?.id && pinned && pinned.id !== row.id" class="ml-2 text-soft">
            <kbd class="key">space</kbd> flips
          </span>
        </template>
      </TrailTable>
      <p v-else class="p-4 text-soft">
        Every trial will stand here, named by what it changed from the one before.
      </p>
    </template>
  </StepFrame>
</template>
