<script setup lang="ts">
import { computed, onMounted, ref, shallowRef } from "vue";
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
import ViewTabs from "../components/ViewTabs.vue";
import {
  balancePanels,
  courseMarks,
  coursePanels,
  furtherColumns,
  TERMS,
  type Drawn,
} from "../control/course";
import { readable } from "../control/events";
import ExportMenu from "../control/ExportMenu.vue";
import FrequencyView from "../control/FrequencyView.vue";
import MeasurePanel from "../control/MeasurePanel.vue";
import OperatingView from "../control/OperatingView.vue";
import PlantEditor from "../control/PlantEditor.vue";
import RobustnessView from "../control/RobustnessView.vue";
import ScenarioEditor from "../control/ScenarioEditor.vue";
import { useSweep } from "../control/sweep";
import ShowMenu from "../control/ShowMenu.vue";
import SweepMargin from "../control/SweepMargin.vue";
import SweepView from "../control/SweepView.vue";
import TradeOffView from "../control/TradeOffView.vue";
import TunePanel from "../control/TunePanel.vue";
import { mainPid, type Controller } from "../control/controllers";
import { useTuning } from "../control/tuning";
import { useDescription } from "../control/useDescription";
import { against, metricsFor } from "../lib/comparison";
import { useDraft } from "../lib/draft";
import { letter, number } from "../lib/format";
import { useKeys } from "../lib/keys";
import { useLoop } from "../lib/loop";
import { useSelected } from "../lib/query";
import { OVERLAYS, type Mark, type Panel } from "../lib/strip";
import { traceOf } from "../lib/traces";

const loop = useLoop();
const { state } = loop;
const selected = useSelected("trial");
const laidOver = useSelected("over");
const base = computed(() => state.trials.find((row) => row.id === selected.value) ?? state.trials[0] ?? null);
const pinned = computed(() => state.trials.find((row) => row.pinned) ?? null);
const hasModel = computed(() => state.models.some((model) => model.chosen));
const hasPlant = computed(() => state.detail?.has_plant ?? false);
const failure = ref("");
const flipped = ref(false);

const { draft, result, refusal, isChanged, withBalances, change, adopt, keep, simulate } = useDraft(
  loop,
  base,
  (id) => {
    selected.value = id;
  },
);
const { description } = useDescription(draft);
const sweep = useSweep(draft);
const tuning = useTuning(draft);

/** Columns that are shown besides, by tag. */
const extra = ref(new Set<string>());

const VIEWS = [
  { key: "course", title: "Course" },
  { key: "balances", title: "Balances" },
  { key: "operating", title: "Operating point" },
  { key: "frequency", title: "Frequency" },
  { key: "trade-off", title: "Trade-off" },
  { key: "robustness", title: "Mismatch" },
  { key: "sweep", title: "Sweep" },
];
const chosenView = useSelected("view");
const view = computed({
  get: () => VIEWS.find((known) => known.key === chosenView.value)?.key ?? "course",
  set: (key) => {
    chosenView.value = key === "course" ? null : key;
    withBalances.value = key === "balances" || extra.value.has(TERMS);
  },
});
withBalances.value = view.value === "balances";

const PARTS = [
  { key: "candidate", title: "Candidate" },
  { key: "tune", title: "Tune" },
  { key: "plant", title: "Plant" },
  { key: "scenario", title: "Scenario" },
  { key: "signal", title: "Measure" },
];
const part = ref("candidate");

/** The settings that SIMC gave last, and for which τc: known as long as they stay. */
const tuned = shallowRef<{ settings: string; timeConstant: number } | null>(null);

/** τc, as long as the settings are those that SIMC gives for one. */
const closedLoopTimeConstant = computed(() => {
  const known = result.value?.simc_time_constant;
  if (known) return Number(known.toPrecision(3));
  const controller = draft.value?.candidate.controller;
  return tuned.value && controller && tuned.value.settings === JSON.stringify(settingsOf(controller))
    ? tuned.value.timeConstant
    : null;
});

function settingsOf(controller: Trial["candidate"]["controller"]): unknown {
  return controller.kind === "pid"
    ? [controller.gain, controller.integral_time, controller.derivative_time ?? 0]
    : [];
}

async function proposal(body: Partial<Schemas["ProposeRequest"]>) {
  const found = await answered(
    api.POST("/api/v1/loops/{tag}/propose", {
      params: { path: { tag: state.tag } },
      body: { model_id: null, choice: { closed_loop_time_constant: null }, ...body },
    }),
  );
  const timeConstant = Number(found.tuning.closed_loop_time_constant.toPrecision(3));
  tuned.value = { settings: JSON.stringify(settingsOf(found.trial.candidate.controller)), timeConstant };
  return { ...found, words: `SIMC, τc = ${number(timeConstant)} s` };
}

/** The first trial of a loop: on the chosen model, or on the plant behind it where there is no model. */
async function propose() {
  failure.value = "";
  if (base.value || !(hasModel.value || hasPlant.value)) return;
  try {
    const first = await proposal({ on: hasModel.value ? "model" : "plant" });
    adopt(first.trial, hasModel.value ? first.words : `plant, ${first.words}`, first.model_id ?? null);
    await keep();
  } catch (error) {
    failure.value = messageOf(error);
  }
}

/** Who comes from Model wants a trial on the chosen model, even where others stand in the trail. */
const asked = useSelected("on");

onMounted(async () => {
  const onModel = asked.value === "model";
  asked.value = null;
  const chosen = state.models.find((model) => model.chosen);
  const isThere = state.trials.some((row) => row.model_id === chosen?.id);
  if (onModel && base.value && chosen && !isThere) {
    await renew("model");
    await keep();
  } else await propose();
});

async function tune(timeConstant: number) {
  const trial = draft.value;
  if (!trial) return;
  try {
    const tuning = await answered(
      api.POST("/api/v1/tune", {
        body: { plant: trial.plant, choice: { closed_loop_time_constant: timeConstant } },
      }),
    );
    tuned.value = {
      settings: JSON.stringify(settingsOf({ kind: "pid", ...tuning.to_type_in })),
      timeConstant,
    };
    change(
      (next) => {
        const before = next.candidate.controller;
        const limits = before.kind === "pid" ? { output_limits: before.output_limits } : {};
        next.candidate.controller = { kind: "pid", ...tuning.to_type_in, ...limits };
      },
      `SIMC, τc = ${number(timeConstant)} s`,
    );
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

/** Settings from a rule or a search; limits stay as they are. */
function takeController(controller: Controller, name: string) {
  change((trial) => {
    const limits = mainPid(trial.candidate.controller)?.output_limits;
    const next = JSON.parse(JSON.stringify(controller)) as Controller;
    const pid = mainPid(next);
    if (pid && limits) pid.output_limits = limits;
    trial.candidate.controller = next;
  }, name);
}

/** A trial on the chosen model, or on the plant behind the loop, in place of what the row stands on. */
async function renew(on: "model" | "plant") {
  try {
    const fresh = await proposal({ on });
    const chosen = state.models.find((model) => model.id === fresh.model_id);
    const where = chosen ? `model ${letter(chosen.number)}` : "plant behind the loop";
    adopt(fresh.trial, `${where}, ${fresh.words}`, fresh.model_id ?? null);
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

/** Another plant: settings and scenario follow it, where there is a rule for them. */
async function replacePlant(plant: Trial["plant"], name: string) {
  try {
    const fresh = await proposal({ on: "plant", plant });
    adopt(fresh.trial, `${name}, ${fresh.words}`, null);
  } catch {
    change((trial) => {
      trial.plant = plant;
      trial.scenario.events = [];
    }, name);
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

const further = computed(() => [
  ...(shown.value.trial && mainPid(shown.value.trial.candidate.controller)
    ? [{ key: TERMS, title: TERMS, unit: "%" }]
    : []),
  ...(shown.value.result ? furtherColumns(shown.value.result.trace) : []).map((column) => ({
    key: column.tag,
    title: readable(column.tag),
    unit: column.unit,
  })),
]);

function toggleExtra(tag: string) {
  const next = new Set(extra.value);
  if (!next.delete(tag)) next.add(tag);
  extra.value = next;
  // The terms of the controller are sent with those of the balances.
  withBalances.value = view.value === "balances" || next.has(TERMS);
}

const panels = computed<Panel[]>(() => {
  const { name, result: main, trial } = shown.value;
  if (!main || !trial) return [];
  if (view.value === "balances") return balancePanels(trial, main.trace);
  const under: Drawn[] = (isFlipped.value ? [] : overlays.value).flatMap(({ row, colour, dash }) => {
    const other = traceOf(row.id)?.trace;
    return other && other.columns[1]?.unit === main.trace.columns[1]?.unit
      ? [{ name: letter(row.number), trace: other, colour, dash }]
      : [];
  });
  const drawn: Drawn = { name, trace: main.trace, colour: "--pv", dash: [] };
  return coursePanels(trial, drawn, main.assessment.metrics.load_responses[0], under, extra.value);
});

const marks = computed<Mark[]>(() =>
  shown.value.trial
    ? courseMarks(shown.value.trial, description.value, shown.value.result?.trace ?? null, !isFlipped.value)
    : [],
);
/** The whole length of the trial, even where it was stopped before its end. */
const extent = computed<[number, number]>(() => [0, shown.value.trial?.scenario.duration ?? 1]);

/** A mark of the strip was drawn to another time: whole scans, and round numbers where the trial is long. */
function drag(key: string, to: number, settled: boolean) {
  const index = Number(key.replace("event ", ""));
  const trial = draft.value;
  if (!trial) return;
  const { duration, scan } = trial.scenario;
  const grain = Math.max(scan, 10 ** Math.floor(Math.log10(duration / 500)));
  const at = Number(Math.min(Math.max(Math.round(to / grain) * grain, 0), duration).toPrecision(6));
  change((next) => {
    const event = next.scenario.events[index];
    if (event) event.at = at;
  });
  if (settled) void keep();
}

function takeSwept(changes: { pointer: string; value: number }[]) {
  change((trial) => {
    for (const { pointer, value } of changes) {
      const path = pointer.split("/").slice(1);
      const last = path.pop() as string;
      let place = trial as unknown as Record<string, unknown>;
      for (const name of path) {
        place[name] ??= {};
        place = place[name] as Record<string, unknown>;
      }
      place[last] = value;
    }
  });
  view.value = "course";
}

const closures = computed(() =>
  (shown.value.result?.trace.balances ?? []).map(
    (sheet) =>
      `${sheet.name}: ${number(sheet.at_start, 4)} → ${number(sheet.at_end, 4)} ${sheet.unit}, closes to ${number(sheet.closure, 2)} of the throughput`,
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

const pvUnit = computed(() => shown.value.trial?.plant.pv.span.unit ?? state.detail?.pv.span.unit ?? "");
const metrics = computed(() => metricsFor(pvUnit.value));
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
      <StateNotice v-else-if="!hasModel && !hasPlant && !base" kind="empty" title="Nothing to control yet">
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
      <div v-else class="flex h-full min-h-0 flex-col">
        <div class="flex items-center gap-3 pr-3 pb-1">
          <ViewTabs v-model="view" :views="VIEWS" label="Views of the trial" />
          <ShowMenu
            v-if="view === 'course' && further.length"
            class="ml-auto"
            :choices="further"
            :shown="extra"
            @toggle="toggleExtra"
          />
          <ExportMenu
            :class="view === 'course' && further.length ? '' : 'ml-auto'"
            :trial-id="isChanged ? null : (base?.id ?? null)"
            :panels="panels"
            :marks="marks"
            :title="`${state.tag}, trial ${shown.name}`"
            @failed="refusal = $event"
          />
        </div>
        <OperatingView v-if="view === 'operating' && draft" :plant="draft.plant" />
        <FrequencyView v-else-if="view === 'frequency' && draft" :trial="draft" />
        <TradeOffView
          v-else-if="view === 'trade-off' && draft"
          :trial="draft"
          :tuning="tuning"
          @take="takeController"
        />
        <RobustnessView
          v-else-if="view === 'robustness' && draft"
          :trial="draft"
          :model-id="base?.model_id ?? null"
          :pv="result?.trace.columns[1]?.values ?? []"
          :interval="result?.trace.scan ?? 1"
        />
        <SweepView
          v-else-if="view === 'sweep' && draft"
          :trial="draft"
          :description="description"
          :sweep="sweep"
          :columns="result?.trace.columns ?? []"
          @take="takeSwept"
        />
        <template v-else>
          <StateNotice
            v-if="view === 'balances' && panels.length < 2"
            kind="empty"
            title="No balance to show"
          >
            A linear process or equations of your own conserve nothing by themselves: choose a process of the
            library.
          </StateNotice>
          <template v-else>
            <p v-if="view === 'balances'" class="pb-1 pl-[62px] text-[12.5px] text-soft">
              <span v-for="text in closures" :key="text" class="mr-5">{{ text }}</span>
            </p>
            <TimeStrip
              class="min-h-0 flex-1"
              :panels="panels"
              :marks="marks"
              :extent="extent"
              :label="`Simulated loop ${state.tag}: PV with set point, OP, disturbances`"
              @drawn="drawn"
              @drag="drag"
            />
          </template>
        </template>
      </div>
    </template>
    <template #margin>
      <SweepMargin
        v-if="view === 'sweep' && draft"
        :trial="draft"
        :description="description"
        :sweep="sweep"
        :columns="result?.trace.columns ?? []"
      />
      <template v-else-if="draft">
        <h1 class="heading mb-1 flex items-baseline justify-between">
          <span>
            Trial {{ base && !isChanged ? letter(base.number) : "draft" }}
            <span v-if="isFlipped" class="text-caution"> · showing {{ letter(pinned?.number ?? 0) }}</span>
          </span>
          <span class="text-[12.5px] font-normal text-soft">ideal form, % of span</span>
        </h1>
        <ViewTabs v-model="part" :views="PARTS" label="Parts of the trial" class="mb-2" />
        <CandidateMargin
          v-if="part === 'candidate'"
          :trial="draft"
          :description="description"
          :closed-loop-time-constant="closedLoopTimeConstant"
          @change="change($event)"
          @tune="tune"
          @settled="keep"
        />
        <TunePanel v-else-if="part === 'tune'" :trial="draft" :tuning="tuning" @take="takeController" />
        <PlantEditor
          v-else-if="part === 'plant'"
          :trial="draft"
          :description="description"
          :resting-op="result?.trace.columns[2]?.values[0] ?? null"
          @change="(edit, name) => change(edit, name ?? null)"
          @replace="replacePlant"
          @settled="keep"
        />
        <ScenarioEditor
          v-else-if="part === 'scenario'"
          :trial="draft"
          :description="description"
          @change="(edit, name) => change(edit, name ?? null)"
          @settled="keep"
        />
        <MeasurePanel v-else-if="result" :trial="draft" :trace="result.trace" />
        <p v-if="refusal" class="mt-2 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ refusal }}
        </p>
        <div v-if="part === 'candidate' || part === 'plant'" class="mt-2 flex flex-wrap gap-2">
          <button v-if="!isOnChosenModel" type="button" class="button" @click="renew('model')">
            Begin anew on the chosen model
          </button>
          <button v-if="hasModel && part === 'plant'" type="button" class="button" @click="renew('model')">
            Begin on the chosen model
          </button>
          <button v-if="hasPlant && part === 'plant'" type="button" class="button" @click="renew('plant')">
            Begin on the plant behind the loop
          </button>
        </div>
        <div
          v-if="shown.result && part !== 'signal'"
          class="mt-3 grid gap-2 border-t border-rule pt-2"
          :class="refusal ? 'opacity-50' : ''"
        >
          <LoopFigures :assessment="shown.result.assessment" :pv-unit="pvUnit" />
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
