<script setup lang="ts">
import { computed, nextTick, ref, useTemplateRef, watch } from "vue";
import { answered, api, isAbort, messageOf, type RecordInfo, type Schemas } from "../api/client";
import ImportDialog from "../components/ImportDialog.vue";
import StateNotice from "../components/StateNotice.vue";
import ShowOlder from "../components/ShowOlder.vue";
import UnreadableRows from "../components/UnreadableRows.vue";
import StepFrame from "../components/StepFrame.vue";
import TimeStrip from "../components/TimeStrip.vue";
import TrailTable from "../components/TrailTable.vue";
import ViewTabs from "../components/ViewTabs.vue";
import DeleteDialog from "../components/DeleteDialog.vue";
import RowMenu from "../components/RowMenu.vue";
import ShowMenu from "../control/ShowMenu.vue";
import { duration, number } from "../lib/format";
import { useKept } from "../lib/kept";
import { useRetry } from "../lib/retry";
import RecordDialog from "../works/RecordDialog.vue";
import { pendingFile } from "../works/pending";
import { channelsInWords } from "../measure/files";
import { useKeys } from "../lib/keys";
import { useLoop } from "../lib/loop";
import { useSelected } from "../lib/query";
import type { Mark, Panel } from "../lib/strip";
import PlanMargin from "../measure/PlanMargin.vue";
import PrepareMargin from "../measure/PrepareMargin.vue";
import ReadMargin from "../measure/ReadMargin.vue";
import RecordMargin from "../measure/RecordMargin.vue";
import { planPanels, recordPanels, withOverlay } from "../measure/panels";
import { comebacks } from "../lib/live";
import { firstSpec, saveAsCsv, usePlan } from "../measure/usePlan";

const { state, refreshRecords, refreshModels } = useLoop();
const selected = useSelected("record");
const place = useSelected("view");
const view = computed({ get: () => place.value ?? "record", set: (key) => (place.value = key) });
const views = [
  { key: "record", title: "Record" },
  { key: "prepare", title: "Prepare" },
  { key: "read", title: "Read by hand" },
  { key: "plan", title: "Plan a test" },
];
const record = computed(
  () => state.records.find((known) => known.id === selected.value) ?? state.records[0] ?? null,
);
const samples = ref<Schemas["Samples"] | null>(null);
const before = ref<Schemas["Samples"] | null>(null);
const failure = ref("");
const file = ref<File | null>(null);
/** What was dropped elsewhere waits to be taken. */
watch(
  pendingFile,
  (waiting) => {
    if (!waiting) return;
    file.value = waiting;
    pendingFile.value = null;
  },
  { immediate: true },
);
const dragging = ref(false);
const chooser = useTemplateRef<HTMLInputElement>("chooser");
const strip = useTemplateRef("strip");
let aborter = new AbortController();
let waiting = 0;

/** A record is shown in the units of the loop; where it is prepared, in its own. */
const seenBy = computed<{ loop?: string }>(() => (view.value === "prepare" ? {} : { loop: state.tag }));
const inOtherUnits = computed(() => {
  const unit = state.detail?.pv.span.unit;
  return record.value?.channels.some((channel) => channel.role === "pv" && channel.unit !== unit) ?? false;
});
watch(seenBy, () => inOtherUnits.value && void fetchSamples(strip.value?.view()));

/** The samples as the preparation leaves them; and untouched, where there is one. */
async function fetchSamples(stretch?: [number, number]) {
  aborter.abort();
  aborter = new AbortController();
  failure.value = "";
  if (!stretch) samples.value = null;
  if (!record.value) return;
  const path = { id: record.value.id };
  const range = stretch ? { from: stretch[0], to: stretch[1] } : {};
  const { signal } = aborter;
  const get = (prepared: boolean) =>
    answered(
      api.GET("/api/v1/records/{id}/samples", {
        params: { path, query: { buckets: 900, ...range, prepared, ...seenBy.value } },
        signal,
      }),
    );
  try {
    const hasSteps = record.value.preparation.some((step) => step.enabled);
    const [prepared, untouched] = await Promise.all([get(true), hasSteps ? get(false) : null]);
    samples.value = prepared;
    before.value = untouched;
  } catch (error) {
    if (!isAbort(error)) failure.value = messageOf(error);
  }
}
useRetry(
  () => failure.value !== "" || inspectionProblem.value !== "",
  () => {
    void fetchSamples(strip.value?.view());
    void inspect();
  },
);

/** A closer look needs finer samples, where there are more than are drawn. */
function viewed(from: number, to: number) {
  window.clearTimeout(waiting);
  if (view.value === "plan") return;
  const all = record.value?.length ?? 0;
  if (all > 4500) waiting = window.setTimeout(() => void fetchSamples([from, to]), 60);
}

// --- what is to be thought of the record ---

const inspection = ref<Schemas["Inspection"] | null>(null);
const inspectionProblem = ref("");
const shownFinding = ref<Schemas["Finding"] | null>(null);

async function inspect() {
  inspectionProblem.value = "";
  const id = record.value?.id;
  if (!id) return;
  try {
    const found = await answered(
      api.GET("/api/v1/loops/{tag}/records/{id}/inspection", { params: { path: { tag: state.tag, id } } }),
    );
    if (record.value?.id === id) inspection.value = found;
  } catch (error) {
    inspectionProblem.value = messageOf(error);
  }
}

/** Names and roles may be others now: everything that is shown of the record is fetched again. */
async function recordChanged() {
  await Promise.all([refreshRecords(), refreshModels()]);
  await fetchSamples();
  void inspect();
}

async function refreshAfterDeletion() {
  selected.value = null;
  await Promise.all([refreshRecords(), refreshModels()]);
}

async function applied() {
  // Models of this record are stale from now on, or no longer.
  await Promise.all([refreshRecords(), refreshModels()]);
  const shown = strip.value?.view();
  await fetchSamples(shown);
  void inspect();
}

// --- reading by hand ---

const reading = ref<Schemas["HandReading"] | null>(null);
const readingProblem = ref("");
let readingAborter = new AbortController();

watch(view, (now) => {
  if (now === "read" && !reading.value) void read(null);
});

async function read(marks: Schemas["Marks"] | null) {
  const id = record.value?.id;
  if (!id) return;
  readingAborter.abort();
  readingAborter = new AbortController();
  try {
    reading.value = await answered(
      api.POST("/api/v1/loops/{tag}/records/{id}/reading", {
        params: { path: { tag: state.tag, id } },
        body: { marks },
        signal: readingAborter.signal,
      }),
    );
    readingProblem.value = "";
  } catch (error) {
    if (!isAbort(error)) readingProblem.value = messageOf(error);
  }
}

function dragged(key: string, to: number) {
  if (!reading.value) return;
  const marks = { ...reading.value.marks, [key]: to };
  // The mark moves at once, its reading follows.
  reading.value = { ...reading.value, marks };
  void read(marks);
}

const marks = computed<Mark[]>(() => {
  if (view.value === "plan") return excitation.value;
  const found = reading.value?.marks;
  if (view.value !== "read" || !found) return [];
  return [
    { key: "start_of_move", time: found.start_of_move, label: "move", colour: "--op" },
    { key: "first_reaction", time: found.first_reaction, label: "reacts", colour: "--pv" },
    { key: "settled", time: found.settled, label: "settled", colour: "--ink" },
  ];
});

// --- planning ---

const spec = useKept<Schemas["ExperimentSpec"] | null>(`plan of ${state.tag}`, () => null);
const { plan, problem: planProblem } = usePlan(spec);
const running = ref(false);
const runProblem = ref("");

watch(
  [view, () => state.detail, comebacks],
  async ([now, detail]) => {
    if (now !== "plan" || !detail || spec.value) return;
    const first = await firstSpec(state.tag, inspection.value?.noise ?? null).catch(() => null);
    // What was typed meanwhile stays.
    spec.value ??= first;
  },
  { immediate: true },
);

/** The noise of the record that is looked at takes the place of a proposed one. */
watch([inspection, spec], ([seen, now]) => {
  if (!seen || !(seen.noise > 0) || !now?.proposed?.includes("noise")) return;
  const proposed = now.proposed.filter((part) => part !== "noise");
  spec.value = { ...now, noise: Number(seen.noise.toPrecision(2)), proposed };
});

/** Where the OP of the plan begins to move and where it stands again. */
const excitation = computed<Mark[]>(() => {
  const { op = [], times = [] } = plan.value ?? {};
  const moves = op.flatMap((value, k) => (k > 0 && value !== op[k - 1] ? [times[k] as number] : []));
  const [first, last] = [moves[0], moves.at(-1)];
  if (first === undefined || last === undefined) return [];
  const begins = { time: first, label: "excitation begins", colour: "--op" };
  return last > first ? [begins, { time: last, label: "excitation ends", colour: "--op" }] : [begins];
});

async function run() {
  if (!spec.value) return;
  running.value = true;
  runProblem.value = "";
  try {
    const name = `Test: ${spec.value.signal.kind.replaceAll("_", " ")}`;
    const added = await answered(
      api.POST("/api/v1/loops/{tag}/experiments", {
        params: { path: { tag: state.tag } },
        body: { experiment: spec.value, name },
      }),
    );
    await imported(added);
    view.value = "record";
  } catch (error) {
    runProblem.value = messageOf(error);
  } finally {
    running.value = false;
  }
}

watch(
  () => record.value?.id,
  () => {
    shownFinding.value = null;
    inspection.value = null;
    reading.value = null;
    void fetchSamples();
    void inspect();
    if (view.value === "read") void read(null);
  },
  { immediate: true },
);

// --- the strip ---

const panels = computed<Panel[]>(() => {
  if (view.value === "plan")
    return plan.value && state.detail && spec.value ? planPanels(plan.value, state.detail, spec.value) : [];
  if (!samples.value) return [];
  const hand = view.value === "read" ? reading.value : null;
  const all = recordPanels(samples.value, before.value, shownFinding.value?.stretches ?? [], hand);
  const list = all.filter((panel) => isShown(panel.title));
  return [...laidOver.value].reduce((panels, [row, other], k) => withOverlay(panels, row, other, k), list);
});

// --- channels that are shown, records that are laid over ---

/** Channels that somebody switched on or off; else all but the many other ones are shown. */
const switched = useKept<Record<string, boolean>>(`channels of ${state.tag}`, () => ({}));
const MOST_OTHERS = 4;
const manyOthers = computed(
  () => (record.value?.channels.filter((channel) => channel.role === "other").length ?? 0) > MOST_OTHERS,
);
function isShown(tag: string): boolean {
  const channel = record.value?.channels.find((known) => known.tag === tag);
  return switched.value[tag] ?? !(channel?.role === "other" && manyOthers.value);
}
const channelChoices = computed(() =>
  (record.value?.channels ?? [])
    .filter((channel) => channel.role !== "sp")
    .map((channel) => ({ key: channel.tag, title: channel.tag, unit: channel.unit })),
);
const channelsShown = computed(
  () => new Set(channelChoices.value.filter((choice) => isShown(choice.key)).map((choice) => choice.key)),
);
function toggleChannel(tag: string) {
  switched.value = { ...switched.value, [tag]: !isShown(tag) };
}

/** Records that are laid over the one that is looked at, each from its own start. */
const overIds = useSelected("over");
const over = computed(() => new Set((overIds.value ?? "").split(",").filter(Boolean)));
const laidOver = ref(new Map<RecordInfo, Schemas["Samples"]>());
function toggleOver(row: RecordInfo) {
  const next = new Set(over.value);
  if (!next.delete(row.id)) next.add(row.id);
  overIds.value = next.size ? [...next].slice(-4).join(",") : null;
}
watch(
  [over, () => record.value?.id, seenBy],
  async () => {
    const rows = state.records.filter((row) => over.value.has(row.id) && row.id !== record.value?.id);
    const query = { buckets: 900, prepared: true, ...seenBy.value };
    const all = await Promise.all(
      rows.map(async (row) => {
        const params = { path: { id: row.id }, query };
        const other = await answered(api.GET("/api/v1/records/{id}/samples", { params })).catch(() => null);
        return other ? ([row, other] as const) : null;
      }),
    );
    laidOver.value = new Map(all.filter((pair) => pair !== null));
  },
  { immediate: true },
);

const extent = computed<[number, number]>(() =>
  view.value === "plan" ? [0, plan.value?.times.at(-1) ?? 1] : [0, record.value?.duration ?? 1],
);

function choose(files: FileList | null | undefined) {
  file.value = files?.[0] ?? null;
  if (chooser.value) chooser.value.value = "";
}

async function imported(added: RecordInfo) {
  closeImport();
  await refreshRecords();
  selected.value = added.id;
  await nextTick();
  document.querySelector(`[data-row="${added.id}"]`)?.scrollIntoView({ block: "nearest" });
}

/** The hand goes back to where it came from. */
function closeImport() {
  file.value = null;
  void nextTick(() =>
    (loadButton() ?? document.querySelector<HTMLElement>("[aria-label=Settings]"))?.focus(),
  );
}
function loadButton(): HTMLElement | null {
  return document.querySelector<HTMLElement>("[data-load]");
}

const editing = ref<RecordInfo | null>(null);
const deleting = ref<InstanceType<typeof DeleteDialog>["$props"]["what"]>(null);
function actionsOf(row: RecordInfo) {
  return [
    { title: "Rename, channels …", act: () => (editing.value = row) },
    { title: over.value.has(row.id) ? "Take off again" : "Lay over", act: () => toggleOver(row) },
    {
      title: "Delete …",
      danger: true,
      act: () =>
        (deleting.value = {
          kind: "record",
          id: row.id,
          remove: () => answered(api.DELETE("/api/v1/records/{id}", { params: { path: { id: row.id } } })),
        }),
    },
  ];
}

useKeys({
  l: () => chooser.value?.click(),
  o: () => record.value && toggleOver(record.value),
});

const columns = [
  { key: "name", title: "Record", text: true },
  { key: "origin", title: "from", text: true },
  { key: "started", title: "start", text: true },
  { key: "channels", title: "channels", text: true },
  { key: "steps", title: "steps" },
  { key: "duration", title: "length" },
  { key: "interval", title: "sample time", unit: "s" },
  { key: "samples", title: "samples" },
  { key: "actions", title: "", text: true },
];
</script>

<template>
  <StepFrame
    @dragover.prevent="dragging = true"
    @dragleave.self="dragging = false"
    @drop.prevent.stop="((dragging = false), choose($event.dataTransfer?.files))"
  >
    <template #strip>
      <div
        v-if="dragging"
        class="absolute inset-6 z-30 grid place-items-center rounded-lg border-2 border-dashed border-pv bg-paper/90"
      >
        <p class="heading">Drop the file: it becomes a record of {{ state.tag }}</p>
      </div>
      <StateNotice v-if="view === 'plan' && panels.length === 0" kind="loading" title="The plan on its way">
        {{ planProblem }}
      </StateNotice>
      <StateNotice
        v-else-if="failure && view !== 'plan'"
        kind="failed"
        title="The record cannot be shown"
        :retry="() => fetchSamples()"
      >
        {{ failure }}
      </StateNotice>
      <StateNotice v-else-if="!record && view !== 'plan'" kind="empty" title="No record yet">
        Drop a file of {{ state.tag }} here (CSV, XLSX, Parquet or JSON, with its PV and OP), choose one at
        the right, or plan a test.
      </StateNotice>
      <StateNotice v-else-if="!samples && view !== 'plan'" kind="loading" title="Samples on their way" />
      <ShowMenu
        v-if="view !== 'plan' && samples && channelChoices.length > 2"
        class="!absolute top-0 right-2 z-20 print:hidden"
        :choices="channelChoices"
        :shown="channelsShown"
        @toggle="toggleChannel"
      />
      <TimeStrip
        v-if="view === 'plan' ? panels.length > 0 : record && samples && !failure"
        ref="strip"
        :key="view === 'plan' ? 'plan' : record?.id"
        :panels="panels"
        :marks="marks"
        :extent="extent"
        :start="view === 'plan' ? null : record?.started"
        :label="
          view === 'plan'
            ? `Planned test of ${state.tag}: OP and expected PV`
            : `Record ${record?.name} of ${state.tag} over ${duration(record?.duration)}`
        "
        @view="viewed"
        @drag="dragged"
      />
    </template>
    <template #margin>
      <ViewTabs v-model="view" :views="views" label="What to do with records" class="mb-3" />
      <RecordMargin
        v-if="view === 'record'"
        :record="record"
        :inspection="inspection"
        :problem="inspectionProblem"
        :shown="shownFinding"
        @load="chooser?.click()"
        @show="shownFinding = $event"
      />
      <template v-else-if="view === 'prepare'">
        <PrepareMargin
          v-if="record"
          :key="record.id"
          :record="record"
          :view="() => strip?.view() ?? [0, record?.duration ?? 1]"
          @applied="applied"
        />
        <template v-else>
          <p class="mb-2 text-soft">There is no record to prepare yet.</p>
          <button type="button" class="button" @click="chooser?.click()">Load a file</button>
        </template>
      </template>
      <ReadMargin
        v-else-if="view === 'read'"
        :reading="reading"
        :problem="readingProblem"
        :models="state.models"
        :record="record?.id ?? null"
        :unit="state.detail?.pv.span.unit ?? ''"
        @suggest="read(null)"
      />
      <PlanMargin
        v-else-if="spec"
        v-model="spec"
        :plan="plan"
        :problem="planProblem || runProblem"
        :has-plant="state.detail?.has_plant ?? false"
        :running="running"
        :tag="state.tag"
        :physical="state.models.filter((one) => one.model.structure.kind === 'physical')"
        @run="run"
        @save="plan && state.detail && saveAsCsv(plan, state.detail)"
      />
      <input
        ref="chooser"
        type="file"
        class="sr-only"
        tabindex="-1"
        accept=".csv,.txt,.tsv,.xlsx,.parquet,.json,text/*"
        aria-label="File with a record"
        @change="choose(($event.target as HTMLInputElement).files)"
      />
    </template>
    <template #trail>
      <TrailTable
        v-if="state.records.length"
        label="Records"
        :rows="state.records"
        :columns="columns"
        :selected="record?.id ?? null"
        :name-of="(row) => `Record ${row.name}`"
        @select="selected = $event.id"
      >
        <template #name="{ row }"
          ><strong class="font-semibold" :title="row.remark">{{ row.name }}</strong></template
        >
        <template #origin="{ row }"
          ><span class="inline-block max-w-[220px] truncate align-bottom" :title="row.origin">{{
            row.origin
          }}</span></template
        >
        <template #started="{ row }">{{
          row.started?.replace("T", " ").replace(/\.000/, "") ?? "–"
        }}</template>
        <template #channels="{ row }">{{ channelsInWords(row.channels) }}</template>
        <template #actions="{ row }">
          <span v-if="over.has(row.id)" class="text-soft">laid over</span>
          <RowMenu :name="row.name" :actions="actionsOf(row)" />
        </template>
        <template #steps="{ row }">{{ row.preparation.length || "–" }}</template>
        <template #duration="{ row }">{{ duration(row.duration) }}</template>
        <template #interval="{ row }">{{
          row.sample_interval ? number(row.sample_interval) : "uneven"
        }}</template>
        <template #samples="{ row }">{{ row.length }}</template>
      </TrailTable>
      <p v-else class="p-4 text-soft">Records of this loop stand here once there are any.</p>
      <ShowOlder rows="records" note="those that models were fitted to are here in any case" />
      <UnreadableRows rows="records" />
    </template>
  </StepFrame>
  <ImportDialog :file="file" @close="closeImport" @imported="imported" />
  <RecordDialog :record="editing" @close="editing = null" @changed="recordChanged" />
  <DeleteDialog :what="deleting" @close="deleting = null" @deleted="refreshAfterDeletion" />
</template>
