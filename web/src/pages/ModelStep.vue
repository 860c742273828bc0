<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, useTemplateRef, watch } from "vue";
import { useRouter } from "vue-router";
import { answered, api, ifMatch, isAbort, messageOf, type ModelRow, type Schemas } from "../api/client";
import DeleteDialog from "../components/DeleteDialog.vue";
import EditDialog from "../components/EditDialog.vue";
import RowMenu from "../components/RowMenu.vue";
import StateNotice from "../components/StateNotice.vue";
import ShowOlder from "../components/ShowOlder.vue";
import UnreadableRows from "../components/UnreadableRows.vue";
import StepFrame from "../components/StepFrame.vue";
import TimeStrip from "../components/TimeStrip.vue";
import TrailTable from "../components/TrailTable.vue";
import ViewTabs from "../components/ViewTabs.vue";
import { duration, letter, number } from "../lib/format";
import { useKept } from "../lib/kept";
import { useKeys } from "../lib/keys";
import { tell } from "../lib/notes";
import { useRetry } from "../lib/retry";
import { useLoop } from "../lib/loop";
import { useSelected } from "../lib/query";
import { between, type Curve, type Panel } from "../lib/strip";
import { isProcess, shortName, type Structure } from "../lib/structures";
import AnalysisView from "../model/AnalysisView.vue";
import BalanceView from "../model/BalanceView.vue";
import CellsView from "../model/CellsView.vue";
import FitMargin from "../model/FitMargin.vue";
import NonparametricView from "../model/NonparametricView.vue";
import OrdersView from "../model/OrdersView.vue";
import OverTimeView from "../model/OverTimeView.vue";
import ModelVerdict from "../model/ModelVerdict.vue";
import ResultMargin from "../model/ResultMargin.vue";
import TrackingView from "../model/TrackingView.vue";
import { settingsOf } from "../model/sameFit";
import FitUnderWay from "../model/FitUnderWay.vue";
import { useFit } from "../model/useFit";
import { useFitJob } from "../model/useFitJob";

const { state, refreshModels } = useLoop();
const router = useRouter();
const selected = useSelected("model");
const wantedRecord = useSelected("record");
const pinnedId = useSelected("pinned");
const place = useSelected("view");
const view = computed({ get: () => place.value ?? "curves", set: (key) => (place.value = key) });
const fit = useFit(state.tag);
/** A fit that takes long: it goes on when the step is left. */
const underWay = useFitJob(state.tag);
let isHere = true;
onUnmounted(() => (isHere = false));

/** The records that a model was fitted to, the first before the others. */
const recordsOf = (row: ModelRow) => [row.record_id, ...row.further.map((stretch) => stretch.record_id)];
const model = computed(() => {
  const byId = state.models.find((known) => known.id === selected.value);
  if (byId) return byId;
  const ofRecord = state.models.filter(
    (known) => !wantedRecord.value || recordsOf(known).includes(wantedRecord.value),
  );
  return ofRecord.find((known) => known.chosen) ?? ofRecord[0] ?? null;
});
const pinned = computed(
  () => state.models.find((known) => known.id === pinnedId.value && known.id !== model.value?.id) ?? null,
);
const record = computed(() => {
  const id = wantedRecord.value ?? model.value?.record_id;
  return state.records.find((known) => known.id === id) ?? state.records[0] ?? null;
});

const views = computed(() => {
  const withModel = [
    { key: "curves", title: "Curves" },
    { key: "residuals", title: "Residuals" },
    { key: "step", title: "Step" },
    { key: "frequency", title: "Frequency" },
    { key: "poles", title: "Poles" },
    { key: "uncertainty", title: "Uncertainty" },
  ];
  const withoutModel = [
    { key: "data", title: "Without a structure" },
    { key: "orders", title: "Orders" },
    { key: "time", title: "Over time" },
  ];
  const { inputs = [], outputs = [] } = model.value?.model ?? {};
  if (model.value?.model.structure.kind === "physical") {
    withModel.splice(1, 0, { key: "balance", title: "Balance" }, { key: "online", title: "On line" });
    const linear = new Set(["step", "frequency", "poles"]);
    return [...withModel.filter(({ key }) => !linear.has(key)), ...withoutModel];
  }
  const several = inputs.length * outputs.length > 1;
  if (several) withModel.splice(1, 0, { key: "cells", title: "All ways" });
  return model.value
    ? [...withModel, ...withoutModel]
    : [{ key: "curves", title: "Curves" }, ...withoutModel];
});
/** Views whose settings take the place of the result. */
const hasOwnMargin = computed(
  () =>
    view.value === "time" || (view.value === "online" && model.value?.model.structure.kind === "physical"),
);
const hasOwnFigures = computed(() => hasOwnMargin.value && view.value === "online");
const side = useKept<"result" | "fit">(`side of ${state.tag}`, () => "result");
/** The output that is looked at, where a model has several. */
const output = useSelected("output");
const isOfOneOutput = computed(() =>
  ["curves", "residuals", "step", "frequency", "poles", "uncertainty"].includes(view.value),
);
/** A cell of all ways, looked at by itself. */
function showCell(tag: string) {
  output.value = tag;
  view.value = "step";
}
const sides = [
  { key: "result", title: "Result" },
  { key: "fit", title: "New model" },
];

const curve = ref<Schemas["Curve"] | null>(null);
const overlay = ref<Schemas["Curve"] | null>(null);
const samples = ref<Schemas["Samples"] | null>(null);
const failure = ref("");
const refusal = ref("");
const fitting = ref(false);
const strip = useTemplateRef("strip");
let aborter = new AbortController();

watch(
  [() => model.value?.id, () => record.value?.id, () => pinned.value?.id, output],
  () => void fetchCurve(),
  {
    immediate: true,
  },
);

async function fetchCurve(stretch?: [number, number]) {
  aborter.abort();
  aborter = new AbortController();
  failure.value = "";
  if (!stretch) {
    curve.value = null;
    overlay.value = null;
    samples.value = null;
  }
  const query = { buckets: 700, ...(stretch ? { from: stretch[0], to: stretch[1] } : {}) };
  const wanted = model.value?.model.outputs.some((one) => one.tag === output.value) ? output.value : null;
  const shown = record.value?.id;
  const within = shown && model.value && recordsOf(model.value).includes(shown) ? { record: shown } : {};
  const signal = aborter.signal;
  const of = (id: string) =>
    answered(
      api.GET("/api/v1/models/{id}/curve", {
        params: { path: { id }, query: { ...query, ...(wanted ? { output: wanted } : {}), ...within } },
        signal,
      }),
    );
  try {
    if (model.value) {
      const drawn = within.record ?? model.value.record_id;
      const under = pinned.value && recordsOf(pinned.value).includes(drawn) ? pinned.value.id : null;
      [curve.value, overlay.value] = await Promise.all([of(model.value.id), under ? of(under) : null]);
    } else if (record.value) {
      const params = { path: { id: record.value.id }, query: { ...query, prepared: true, loop: state.tag } };
      samples.value = await answered(api.GET("/api/v1/records/{id}/samples", { params, signal }));
    }
  } catch (error) {
    if (!isAbort(error)) failure.value = messageOf(error);
  }
}

let waiting = 0;
function viewed(start: number, end: number) {
  window.clearTimeout(waiting);
  if ((record.value?.length ?? 0) > 3500)
    waiting = window.setTimeout(() => void fetchCurve([start, end]), 60);
}

useRetry(
  () => failure.value !== "",
  () => fetchCurve(),
);

/** The whole record, whatever the window of the fit. */
const extent = computed<[number, number]>(() => [0, record.value?.duration ?? 1]);

const marks = computed(() => {
  const row = model.value;
  if (!row) return [];
  const shown = record.value?.id;
  const length = record.value?.duration ?? row.window_to;
  const list: { time: number; label: string; colour: string }[] = [];
  const mark = (time: number, label: string) => list.push({ time, label, colour: "--ink" });
  const fitted = (from: number, to: number, ends: boolean) => {
    if (from > 1e-3 * length) mark(from, "fitted from here");
    if (ends && to < 0.999 * length) mark(to, "fitted to here");
  };
  if (row.record_id === shown || row.further.every((stretch) => stretch.record_id !== shown)) {
    fitted(row.window_from, row.window_to, row.validation_from == null);
    if (row.validation_from != null) mark(row.validation_from, "validated from here");
  }
  for (const stretch of row.further) if (stretch.record_id === shown) fitted(stretch.from, stretch.to, true);
  return list;
});

const panels = computed<Panel[]>(() => {
  const pv = state.detail?.pv;
  const op = state.detail?.op;
  if (!pv || !op) return [];
  const shown = curve.value;
  if (shown) {
    const { times } = shown;
    const measured = { label: "PV", times, values: shown.measured, colour: "--measured", width: 1 };
    const own = model.value ? letter(model.value.number) : "model";
    const modelled = { label: own, times, values: shown.modelled, colour: "--pv", width: 2.2 };
    const left: Curve[] = [{ label: own, times, values: shown.residual, colour: "--measured", width: 1 }];
    const curves: Curve[] = [measured, modelled];
    const under = overlay.value;
    if (under && pinned.value) {
      const style = {
        label: letter(pinned.value.number),
        times: under.times,
        colour: "--over-1",
        dash: [7, 4],
      };
      curves.splice(1, 0, { ...style, values: under.modelled, width: 1.8 });
      left.push({ ...style, values: under.residual, width: 1.2 });
    }
    const input = { label: "OP", times, values: shown.input, colour: "--op", stepped: true };
    const of = shown.output;
    const name = of.tag === model.value?.model.outputs[0]?.tag ? pv.tag : of.tag;
    const further = shown.disturbances.map((series) => ({
      key: `dv ${series.tag}`,
      title: series.tag,
      unit: series.unit,
      curves: [{ label: series.tag, times, values: series.values, colour: "--dv", stepped: true }],
      weight: 0.8,
    }));
    return [
      { key: "fit", title: `${name} and model`, unit: of.unit, curves, weight: 3 },
      { key: "left", title: "measured − model", unit: of.unit, curves: left, weight: 1, include: [0] },
      { key: "op", title: op.tag, unit: "%", curves: [input], weight: 1.3, limits: between(0, 100) },
      ...further,
    ];
  }
  const raw = samples.value;
  const channel = (role: string) => raw?.channels.find((known) => known.role === role);
  if (!raw || !channel("pv") || !channel("op")) return [];
  const plain = (role: string, label: string, colour: string) => ({
    label,
    times: raw.times,
    values: channel(role)?.values ?? [],
    colour,
    stepped: role === "op",
  });
  return [
    { key: "pv", title: pv.tag, unit: pv.span.unit, curves: [plain("pv", "PV", "--measured")], weight: 3 },
    { key: "op", title: op.tag, unit: "%", curves: [plain("op", "OP", "--op")], weight: 1.3 },
  ];
});

/** The panels with the steady stretches in which a parameter was taken from the balances at rest. */
const panelsWithRest = computed<Panel[]>(() => {
  const rest = side.value === "fit" ? fit.physical.steady.value?.stretches : undefined;
  if (!rest?.length) return panels.value;
  const shades = rest.map(({ from, to }) => ({ from, to, colour: "--pv" }));
  return panels.value.map((panel) => ({ ...panel, shades: [...(panel.shades ?? []), ...shades] }));
});

/** The model that was fitted to the same data under the same settings, where there is one. */
const same = computed(() => {
  const asked = settingsOf(fit.options.value);
  return state.models.find(
    (row) =>
      row.record_id === record.value?.id &&
      !row.stale &&
      !row.reduced_from &&
      settingsOf(row.options) === asked &&
      (fit.draft.from ?? row.window_from) === row.window_from &&
      (fit.draft.to ?? row.window_to) === row.window_to &&
      fit.draft.further.length === 0 &&
      row.further.length === 0 &&
      fit.draft.validation === "half" &&
      row.validation_from != null,
  );
});
async function run() {
  if (!record.value || fitting.value || underWay.state.value) return;
  if (same.value) {
    // The same fit once more gives the same model: that one is shown.
    await show(same.value.id, same.value.record_id);
    tell(`Model ${letter(same.value.number)} is this fit already.`);
    return;
  }
  fitting.value = true;
  refusal.value = "";
  try {
    const body = {
      record_id: record.value.id,
      windows: fit.windows.value,
      further: fit.draft.further,
      options: fit.options.value,
    };
    const params = { path: { tag: state.tag } };
    // What may take long is a job: it shows how far it is, and can be cancelled.
    const added =
      fit.draft.kind === "physical"
        ? await underWay.follow(body)
        : await answered(api.POST("/api/v1/loops/{tag}/models", { params, body }));
    await showFitted(added);
  } catch (error) {
    refuse(error);
  } finally {
    fitting.value = false;
  }
}
async function showFitted(added: ModelRow | null) {
  if (added && isHere) await show(added.id, added.record_id);
  else if (added) tell(`Model ${letter(added.number)} of ${state.tag} is fitted.`);
}
function refuse(error: unknown) {
  refusal.value = messageOf(error);
  side.value = "fit";
}
// What was begun before this page was opened goes on all the same.
onMounted(() => void underWay.takeUp().then(showFitted).catch(refuse));
/** A physical model that was found is where the next fit begins. */
function fitFurther() {
  const fitted = model.value?.model.physical?.fitted;
  if (!fitted) return;
  fit.draft.kind = "physical";
  fit.draft.orders = {};
  void fit.physical.goOn(fitted);
  side.value = "fit";
}

async function show(id: string, recordId: string) {
  await refreshModels();
  side.value = "result";
  await router.replace({ query: { ...router.currentRoute.value.query, model: id, record: recordId } });
}

function useStructure(structure: Structure) {
  fit.use(structure);
  view.value = "curves";
  void run();
}

function takeView(target: "estimation" | "validation" | "further") {
  // Where another view is open, the curves come first, so that one sees what is taken.
  if (view.value !== "curves") {
    view.value = "curves";
    tell("Zoom the curves to the window, then take it.");
    return;
  }
  const shown = strip.value?.view();
  if (!shown) return;
  const [from, to] = shown.map((time) => Number(time.toFixed(3))) as [number, number];
  if (target === "further") {
    if (record.value) fit.draft.further.push({ record_id: record.value.id, from, to });
  } else if (target === "estimation") Object.assign(fit.draft, { from, to });
  else Object.assign(fit.draft, { validationFrom: from, validationTo: to });
}

async function select(row: ModelRow) {
  await router.replace({
    query: { ...router.currentRoute.value.query, model: row.id, record: row.record_id },
  });
}

function pickRecord(id: string) {
  const { model: _, ...rest } = router.currentRoute.value.query;
  void router.replace({ query: { ...rest, record: id } });
  Object.assign(fit.draft, { from: null, to: null, disturbances: [], outputs: [] });
}

/** Another record that the model was fitted to, the model staying. */
function showRecord(id: string) {
  const query = { ...router.currentRoute.value.query, record: id, model: model.value?.id };
  void router.replace({ query });
}

function pin() {
  const row = model.value;
  if (!row) return;
  pinnedId.value = pinnedId.value === row.id ? null : row.id;
}

async function changed(id: string | null) {
  await refreshModels();
  const row = state.models.find((known) => known.id === id);
  if (row) await select(row);
}

// --- naming and deleting ---

const editing = ref<InstanceType<typeof EditDialog>["$props"]["what"]>(null);
const deleting = ref<InstanceType<typeof DeleteDialog>["$props"]["what"]>(null);

function actionsOf(row: ModelRow) {
  return [
    {
      title: "Name and remark …",
      act: () =>
        (editing.value = {
          title: `Model ${letter(row.number)}, ${shortName(row.model.structure)}`,
          nameLabel: "Name (beside its letter)",
          texts: { name: row.name, remark: row.remark },
          keep: async (body, force) => {
            const params = { path: { id: row.id }, header: ifMatch(row.revision, force) };
            await answered(api.PUT("/api/v1/models/{id}", { params, body }));
            await refreshModels();
          },
        }),
    },
    ...(row.chosen
      ? [
          {
            title: "Choose none",
            act: async () => {
              await answered(api.DELETE("/api/v1/models/{id}/chosen", { params: { path: { id: row.id } } }));
              await refreshModels();
            },
          },
        ]
      : []),
    {
      title: "Delete …",
      danger: true,
      act: () =>
        (deleting.value = {
          kind: "model",
          id: row.id,
          remove: () => answered(api.DELETE("/api/v1/models/{id}", { params: { path: { id: row.id } } })),
        }),
    },
  ];
}

async function afterDeletion() {
  selected.value = null;
  await refreshModels();
}

const gainOf = (row: ModelRow) => row.model.parameters.find((parameter) => parameter.name === "gain");
const tone = (row: ModelRow) => {
  const all = [...row.model.verdicts, ...(row.validation?.verdicts ?? [])];
  if (all.some((verdict) => verdict.tone === "bad")) return { shape: "▲", word: "problem" };
  if (all.some((verdict) => verdict.tone === "caution")) return { shape: "△", word: "caution" };
  return { shape: "", word: "good" };
};
/** The figures that can be compared are those of the same data: the least BIC of each record and window. */
const dataOf = (row: ModelRow) =>
  [row, ...row.further.map((stretch) => ({ ...stretch, window_from: stretch.from, window_to: stretch.to }))]
    .map((part) => `${part.record_id} ${part.window_from} ${part.window_to}`)
    .join(" ");
const bestOfTrail = computed(() => {
  const best = new Map<string, number>();
  for (const row of state.models) {
    const key = dataOf(row);
    best.set(key, Math.min(best.get(key) ?? Infinity, row.model.criteria?.bic ?? Infinity));
  }
  return best;
});
const isBest = (row: ModelRow) =>
  row.model.criteria != null && bestOfTrail.value.get(dataOf(row)) === row.model.criteria.bic;

useKeys({ f: () => void run(), p: pin });

const columns = [
  { key: "name", title: "Model", text: true },
  { key: "record", title: "record", text: true },
  { key: "window", title: "window", text: true },
  { key: "gain", title: "gain" },
  { key: "tau", title: "time constant", unit: "s" },
  { key: "theta", title: "dead time", unit: "s" },
  { key: "simulated", title: "simulated", unit: "fitted / new, %" },
  { key: "ahead", title: "one ahead", unit: "fitted / new, %" },
  { key: "bic", title: "BIC" },
  { key: "verdict", title: "verdict", text: true },
  { key: "state", title: "", text: true },
];
const of = (row: ModelRow, ...names: string[]) => {
  const found = row.model.parameters
    .filter((parameter) => names.includes(parameter.name))
    .map((one) => one.value);
  return isProcess(row.model.structure.kind) && found.length
    ? found.map((one) => number(one)).join(", ")
    : "–";
};
</script>

<template>
  <StepFrame>
    <template #strip>
      <div class="flex h-full min-h-0 flex-col">
        <div v-if="record" class="flex items-center gap-3 pr-2 pl-14">
          <ViewTabs v-model="view" :views="views" label="Views of the model" />
          <select
            v-if="isOfOneOutput && model && model.model.outputs.length > 1"
            class="entry ml-auto !py-[1px]"
            aria-label="Output that is shown"
            :value="output ?? model.model.outputs[0]?.tag"
            @change="output = ($event.target as HTMLSelectElement).value"
          >
            <option v-for="one in model.model.outputs" :key="one.tag" :value="one.tag">{{ one.tag }}</option>
          </select>
        </div>
        <div class="min-h-0 flex-1">
          <StateNotice v-if="!record" kind="empty" title="Nothing to model yet">
            A model needs a record.
            <RouterLink class="button mt-2 inline-block" :to="{ name: 'measure' }"
              >Load one at Measure</RouterLink
            >
          </StateNotice>
          <FitUnderWay
            v-else-if="underWay.state.value"
            :fit="underWay.state.value"
            :from="fit.draft.from ?? 0"
            :start="record.started"
            @cancel="underWay.cancel"
          />
          <OrdersView
            v-else-if="view === 'orders'"
            :key="record.id"
            :tag="state.tag"
            :record-id="record.id"
            :windows="fit.windows.value"
            :disturbances="fit.draft.disturbances"
            @use="useStructure"
          />
          <NonparametricView
            v-else-if="view === 'data'"
            :tag="state.tag"
            :record-id="record.id"
            :windows="fit.windows.value"
            :disturbances="fit.draft.disturbances"
            :model="model"
            :unit="state.detail?.pv.span.unit ?? ''"
          />
          <OverTimeView
            v-else-if="view === 'time'"
            :key="record.id"
            :tag="state.tag"
            :record-id="record.id"
            :windows="fit.windows.value"
            :model="model"
            :unit="state.detail?.pv.span.unit ?? ''"
            :interval="record.sample_interval ?? record.duration / Math.max(1, record.length - 1)"
            :duration="record.duration"
          />
          <BalanceView
            v-else-if="model && view === 'balance'"
            :key="model.id"
            :model="model"
            :start="record.started"
          />
          <TrackingView
            v-else-if="model && view === 'online' && model.model.structure.kind === 'physical'"
            :key="model.id"
            :model="model"
            :records="state.records"
            :shown="record?.id ?? null"
          />
          <CellsView v-else-if="model && view === 'cells'" :model="model" @show="showCell" />
          <AnalysisView
            v-else-if="model && view !== 'curves'"
            :view="view"
            :model="model"
            :pinned="pinned"
            :output="output"
          />
          <StateNotice
            v-else-if="failure"
            kind="failed"
            title="The model cannot be shown"
            :retry="() => fetchCurve()"
          >
            {{ failure }}
          </StateNotice>
          <StateNotice v-else-if="panels.length === 0" kind="loading" title="Curves on their way" />
          <TimeStrip
            v-else
            ref="strip"
            :key="model?.id ?? record.id"
            :panels="panelsWithRest"
            :marks="marks"
            :extent="extent"
            :start="record.started"
            :label="`Fit of ${state.tag}: measured and modelled PV, residual, OP`"
            @view="viewed"
          />
        </div>
      </div>
    </template>
    <template #margin>
      <div v-if="hasOwnMargin" id="view-settings" />
      <template v-else>
        <ViewTabs
          v-if="model"
          :model-value="side"
          :views="sides"
          label="Result or new model"
          class="mb-2"
          @update:model-value="side = $event as typeof side"
        />
        <h1 v-else class="heading mb-2">
          {{ state.models.length ? "No model of this record yet" : "No model yet" }}
        </h1>
        <ResultMargin
          v-if="model && side === 'result'"
          :model="model"
          :models="state.models"
          :unit="state.detail?.pv.span.unit ?? ''"
          :records="state.records"
          :shown="record?.id ?? null"
          @control="router.push({ name: 'control', query: { on: model.id } })"
          @changed="changed"
          @record="showRecord"
          @further="fitFurther"
        />
        <FitMargin
          v-else
          :fit="fit"
          :record="record"
          :records="state.records"
          :fitting="fitting || underWay.state.value !== null"
          :refusal="refusal"
          :is-first="!model || side === 'fit'"
          @fit="run"
          @record="pickRecord"
          @view="takeView"
        />
      </template>
    </template>
    <template v-if="hasOwnFigures || (model && side === 'result' && !hasOwnMargin)" #figures>
      <div v-if="hasOwnFigures" id="view-figures" />
      <ModelVerdict
        v-else-if="model"
        :model="model"
        @control="router.push({ name: 'control', query: { on: model.id } })"
      />
    </template>
    <template #trail>
      <TrailTable
        v-if="state.models.length"
        label="Models"
        :rows="state.models"
        :columns="columns"
        :selected="model?.id ?? null"
        :name-of="
          (row) =>
            `Model ${letter(row.number)}, ${shortName(row.model.structure)}${row.model.noise ? ' + noise' : ''}${row.name ? ` ${row.name}` : ''}, ${row.record_name}`
        "
        @select="select"
      >
        <template #name="{ row }"
          ><strong class="font-semibold">{{ letter(row.number) }}</strong> {{ shortName(row.model.structure)
          }}{{ row.model.noise ? " + noise" : "" }}
          <span v-if="row.name" class="text-soft" :title="row.remark">{{ row.name }}</span></template
        >
        <template #record="{ row }"
          >{{ row.record_name
          }}<span
            v-if="row.further.length"
            class="text-soft"
            :title="`fitted to ${row.further.length + 1} stretches at once`"
          >
            + {{ row.further.length }}</span
          ></template
        >
        <template #window="{ row }"
          >{{ duration(row.window_from) }} to {{ duration(row.window_to) }}</template
        >
        <template #gain="{ row }">
          <template v-if="gainOf(row)">
            {{ number(gainOf(row)?.value) }} <span class="text-soft">{{ gainOf(row)?.unit }}</span>
          </template>
          <template v-else>–</template>
        </template>
        <template #tau="{ row }">{{
          of(row, "time_constant", "time_constant_1", "time_constant_2")
        }}</template>
        <template #theta="{ row }">{{ of(row, "dead_time") }}</template>
        <template #simulated="{ row }">
          {{ number(row.model.estimation.fit_simulated, 4) }} /
          <strong class="font-semibold">{{ number(row.validation?.performance.fit_simulated, 4) }}</strong>
        </template>
        <template #ahead="{ row }">
          {{ number(row.model.estimation.fit_one_step, 4) }} /
          {{ number(row.validation?.performance.fit_one_step, 4) }}
        </template>
        <template #bic="{ row }">
          <span v-if="isBest(row)" title="least of this record and window" class="text-pv">▼</span>
          {{ number(row.model.criteria?.bic, 5) }}
        </template>
        <template #verdict="{ row }">
          <span
            :class="
              tone(row).word === 'problem' ? 'text-limit' : tone(row).word === 'caution' ? 'text-caution' : ''
            "
          >
            {{ tone(row).shape }} {{ tone(row).word }}
          </span>
        </template>
        <template #state="{ row }">
          <strong v-if="row.chosen" class="font-semibold" :title="row.reason">chosen</strong>
          <span v-if="row.id === pinnedId" class="ml-2">pinned</span>
          <template v-else-if="row.id === model?.id"
            ><kbd class="key ml-2">p</kbd> <span class="text-soft">pins</span></template
          >
          <span
            v-if="row.stale"
            class="ml-2 text-caution"
            title="the record or its preparation has changed since"
            >stale</span
          >
          <RowMenu :name="`model ${letter(row.number)}`" :actions="actionsOf(row)" />
        </template>
      </TrailTable>
      <p v-else class="p-4 text-soft">Every model that is fitted stands here, with its parameters and fit.</p>
      <ShowOlder rows="models" note="the chosen one, and those that trials stand on, are here in any case" />
      <UnreadableRows rows="models" />
    </template>
  </StepFrame>
  <EditDialog :what="editing" @close="editing = null" />
  <DeleteDialog :what="deleting" @close="deleting = null" @deleted="afterDeletion" />
</template>
