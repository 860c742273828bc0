<script setup lang="ts">
import { computed, onMounted, ref, shallowRef, useTemplateRef, watch } from "vue";
import {
  answered,
  api,
  ifMatch,
  messageOf,
  type Schemas,
  type Trial,
  type TrialResult,
  type TrialRow,
} from "../api/client";
import WiredMargin from "../components/WiredMargin.vue";
import { eventsOf, loopsOf, measuredOf } from "../control/loops";
import CandidateMargin from "../components/CandidateMargin.vue";
import DeleteDialog from "../components/DeleteDialog.vue";
import EditDialog from "../components/EditDialog.vue";
import LoopFigures from "../components/LoopFigures.vue";
import StateNotice from "../components/StateNotice.vue";
import StepFrame from "../components/StepFrame.vue";
import TimeStrip from "../components/TimeStrip.vue";
import VerdictNote from "../components/VerdictNote.vue";
import ViewTabs from "../components/ViewTabs.vue";
import {
  balancePanels,
  courseMarks,
  coursePanels,
  ERROR,
  furtherColumns,
  OPEN_LOOP,
  TERMS,
  type Drawn,
} from "../control/course";
import { readable } from "../control/events";
import AheadView from "../control/AheadView.vue";
import HorizonView from "../control/HorizonView.vue";
import RegionsView from "../control/RegionsView.vue";
import ControlTrail from "../control/ControlTrail.vue";
import ExportMenu from "../control/ExportMenu.vue";
import FrequencyView from "../control/FrequencyView.vue";
import InteractionView from "../control/InteractionView.vue";
import MeasurePanel from "../control/MeasurePanel.vue";
import OperatingView from "../control/OperatingView.vue";
import OverLoadView from "../control/OverLoadView.vue";
import PlantEditor from "../control/PlantEditor.vue";
import RobustnessView from "../control/RobustnessView.vue";
import ScenarioEditor from "../control/ScenarioEditor.vue";
import { useKpis } from "../control/kpis";
import { useSweep } from "../control/sweep";
import ShowOlder from "../components/ShowOlder.vue";
import UnreadableRows from "../components/UnreadableRows.vue";
import ShowMenu from "../control/ShowMenu.vue";
import SweepMargin from "../control/SweepMargin.vue";
import SweepView from "../control/SweepView.vue";
import TradeOffView from "../control/TradeOffView.vue";
import TunePanel from "../control/TunePanel.vue";
import { mainPid, type Controller } from "../control/controllers";
import { provideExplore, useHalves } from "../lib/halves";
import { cvOf, moveLimit } from "../control/limits";
import type { Predictive } from "../control/predictive";
import { useTuning } from "../control/tuning";
import { useDescription } from "../control/useDescription";
import { useDraft } from "../lib/draft";
import { useKept } from "../lib/kept";
import { gathered } from "../lib/live";
import { changesOfFigures } from "../lib/comparison";
import { tell } from "../lib/notes";
import { eventOf, lastName, provideRefused } from "../lib/refused";
import { beginsTrials } from "../lib/structures";
import { letter, number, plural } from "../lib/format";
import { plain } from "../lib/plain";
import { chosenInstead } from "../model/chosen";
import { useKeys } from "../lib/keys";
import { useLoop } from "../lib/loop";
import { useSelected } from "../lib/query";
import { OVERLAYS, type Mark, type Panel } from "../lib/strip";
import { traceOf } from "../lib/traces";
import BeginningSelect from "../works/BeginningSelect.vue";
import { useBeginnings } from "../works/beginnings";

const loop = useLoop();
const { state } = loop;
const selected = useSelected("trial");
const laidOver = useSelected("over");
const base = computed(() => state.trials.find((row) => row.id === selected.value) ?? state.trials[0] ?? null);
const pinned = computed(() => state.trials.find((row) => row.pinned) ?? null);
/** A model that Control can work with, the chosen one before others. */
const modelAtHand = computed(
  () =>
    state.models.find((model) => model.chosen) ??
    state.models.find((model) => beginsTrials(model.model.structure.kind)) ??
    null,
);
const hasModel = computed(() => modelAtHand.value !== null);
const hasPlant = computed(() => state.detail?.has_plant ?? false);
const failure = ref("");
const viewBox = useTemplateRef<HTMLElement>("viewBox");
const flipped = ref(false);

const {
  draft,
  result,
  refusal,
  refusedField,
  isWaiting,
  isChanged,
  withBalances,
  change,
  adopt,
  mean,
  keep,
  simulate,
} = useDraft(loop, base, (id) => {
  selected.value = id;
});
const { halves, catches, explore } = useHalves(draft);
provideExplore(explore);
/** An edit of the margin: made, or only tried where half and twice of a number are looked at. */
function edited(edit: (trial: Trial) => void, name: string | null = null) {
  if (!catches(edit)) change(edit, name);
}
function changePredictive(edit: (settings: Predictive) => void) {
  change((trial) => {
    if (trial.candidate.controller.kind === "predictive") edit(trial.candidate.controller);
  });
}
const { description } = useDescription(draft);
const sweep = useSweep(draft);
const tuning = useTuning(draft);

/** Columns that are shown besides, by tag. */
const extraList = useKept<string[]>(`signals of ${state.tag}`, () => []);
const extra = computed({
  get: () => new Set(extraList.value),
  set: (next) => (extraList.value = [...next]),
});

const VIEWS = [
  { key: "course", title: "Course" },
  { key: "ahead", title: "Ahead" },
  { key: "balances", title: "Balances" },
  { key: "operating", title: "Operating point" },
  { key: "interaction", title: "Interaction" },
  { key: "frequency", title: "Frequency" },
  { key: "trade-off", title: "Trade-off" },
  { key: "robustness", title: "Mismatch" },
  { key: "sweep", title: "Sweep" },
];
/** The operating point, or the whole range of operation. */
const OPERATING = [
  { key: "here", title: "Here" },
  { key: "range", title: "Over load" },
];
/** The plan of one scan, how far plans reach, or what is done whatever is known. */
const PLANNED = [
  { key: "scan", title: "At a scan" },
  { key: "horizons", title: "How far" },
  { key: "regions", title: "The law" },
];
const planned = useKept<string>(`planned ${state.tag}`, () => "scan");
const operating = useKept<string>(`operating ${state.tag}`, () => "here");
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
const part = useKept(`part of ${state.tag}`, () => "candidate");

// --- which of several loops the margin is about; the first has no name ---

const focusKept = useKept<string>(`loop in focus of ${state.tag}`, () => "");
const loops = computed(() => (shown.value.trial ? loopsOf(shown.value.trial) : []));
const focus = computed({
  get: () => (loops.value.some((one) => one.key === focusKept.value) ? focusKept.value : ""),
  set: (key) => (focusKept.value = key),
});
watch(
  () => refusedField.value,
  (path) => {
    const at = /^candidate\.further\[(\d+)\]/.exec(path);
    const named = /^scenario\.further\.([^[]+)\[/.exec(path);
    const name = at ? draft.value?.candidate.further?.[Number(at[1])]?.name : named?.[1];
    if (name) focus.value = name;
    else if (/^(candidate|scenario)\./.test(path)) focus.value = "";
  },
);
/** Figures and unit of the loop in focus; of one without a loop of its own those of the first. */
const inFocus = computed(() => {
  const { result: now, trial } = shown.value;
  if (!now || !trial) return null;
  const further = now.assessment.further?.find((one) => one.name === focus.value);
  if (focus.value && !further) return null;
  const { tag, span } = measuredOf(trial, focus.value);
  const keepsWithin = cvOf(trial, tag)?.follows_set_point === false;
  return { figures: further ?? now.assessment, unit: span.unit, keepsWithin };
});

/** Views that look at one loop as if the others stood still, which is not how a cascade or an override works. */
const ALONE = ["trade-off", "robustness"];
/** Whether the first controller is predictive. */
const isPredictive = computed(() => draft.value?.candidate.controller.kind === "predictive");
/** Whether it is one of several CVs or MVs, whose map of mismatch would have as many sides. */
const isOfSeveral = computed(() => {
  const own = draft.value?.candidate.controller;
  if (own?.kind !== "predictive") return false;
  // What nothing measures has limits only, and no side in a map.
  return own.cvs.filter((cv) => !cv.estimated).length > 1 || own.mvs.length > 1;
});
const setsItsOp = computed(() => shown.value.result?.stands_alone ?? true);

/** The part that a refusal is about, and its entry there. */
const PLACES: Record<string, string> = { candidate: "candidate", plant: "plant", scenario: "scenario" };
const refusedPart = computed(() => PLACES[refusedField.value.split(/[.[]/)[0] ?? ""] ?? null);
provideRefused(
  computed(() =>
    refusal.value && refusedPart.value === part.value
      ? { key: lastName(refusedField.value), text: refusal.value, path: refusedField.value }
      : null,
  ),
);

/** Plant and settings for which SIMC was asked last, and the τc: known as long as both stay. */
const tuned = shallowRef<{ on: string; timeConstant: number } | null>(null);

/** τc, as long as the settings are those that SIMC gives for one. */
const closedLoopTimeConstant = computed(() => {
  const known = result.value?.simc_time_constant;
  if (known) return Number(known.toPrecision(3));
  return tuned.value && draft.value && tuned.value.on === tunedFor(draft.value)
    ? tuned.value.timeConstant
    : null;
});

/** What a rule's settings hold for: the plant, and the settings themselves. */
function tunedFor({ plant, candidate, scenario }: Trial): string {
  const { controller } = candidate;
  const settings =
    controller.kind === "pid"
      ? [controller.gain, controller.integral_time, controller.derivative_time ?? 0]
      : [];
  return JSON.stringify([settings, plant, scenario.scan]);
}

async function proposal(body: Partial<Schemas["ProposeRequest"]>) {
  const found = await answered(
    api.POST("/api/v1/loops/{tag}/propose", {
      params: { path: { tag: state.tag } },
      body: { model_id: null, choice: { closed_loop_time_constant: null }, ...body },
    }),
  );
  const timeConstant = found.tuning ? Number(found.tuning.closed_loop_time_constant.toPrecision(3)) : null;
  tuned.value = timeConstant === null ? null : { on: tunedFor(found.trial), timeConstant };
  return found;
}

/** The first trial of a loop: on the chosen model, or on the plant behind it where there is no model. */
async function propose() {
  failure.value = "";
  if (base.value || !(hasModel.value || hasPlant.value)) return;
  try {
    const first = await proposal({ on: hasModel.value ? "model" : "plant" });
    const on =
      modelAtHand.value && !modelAtHand.value.chosen ? `model ${letter(modelAtHand.value.number)}, ` : "";
    adopt(
      first.trial,
      hasModel.value ? `${on}${first.settings}` : `plant, ${first.settings}`,
      first.model_id ?? null,
    );
    await keep();
  } catch (error) {
    failure.value = messageOf(error);
  }
}

/** Who comes from Model wants a trial on that model, even where others stand in the trail. */
const asked = useSelected("on");

onMounted(async () => {
  const wanted = state.models.find((model) => model.id === asked.value) ?? null;
  asked.value = null;
  const onIt = state.trials.find((row) => row.model_id === wanted?.id);
  if (onIt) selected.value = onIt.id;
  else if (wanted) {
    await renew("model", wanted.id);
    await keep();
  } else await propose();
});

// --- a plant of the library or of the works to begin on, where nothing else is there ---

const { beginnings, refresh: readBeginnings } = useBeginnings();
const beginning = ref("");
onMounted(readBeginnings);
async function beginOnPlant() {
  const chosen = beginnings.value.find((one) => one.key === beginning.value);
  if (!chosen || !state.detail) return;
  failure.value = "";
  try {
    const plant = await chosen.plantFor(state.detail);
    await answered(
      api.PUT("/api/v1/loops/{tag}/plant", { params: { path: { tag: state.tag } }, body: plant }),
    );
    await loop.refreshDetail();
    const first = await proposal({ on: "plant", plant });
    const title = chosen.isSaved ? chosen.title : chosen.title.toLowerCase();
    adopt(first.trial, `${title}, ${first.settings}`, null);
    await keep();
  } catch (error) {
    failure.value = messageOf(error);
  }
}

async function tune(timeConstant: number) {
  const trial = draft.value;
  if (!trial) return;
  try {
    const tuning = await answered(
      api.POST("/api/v1/tune", {
        body: { plant: trial.plant, choice: { closed_loop_time_constant: timeConstant } },
      }),
    );
    change(
      (next) => {
        const before = next.candidate.controller;
        const limits = before.kind === "pid" ? { output_limits: before.output_limits } : {};
        next.candidate.controller = { kind: "pid", ...tuning.to_type_in, ...limits };
      },
      `SIMC, τc = ${number(timeConstant)} s`,
    );
    tuned.value = draft.value && { on: tunedFor(draft.value), timeConstant };
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

/** Settings from a rule or a search; limits stay as they are. */
function takeController(controller: Controller, name: string) {
  change((trial) => {
    const limits = mainPid(trial.candidate.controller)?.output_limits;
    const next = plain(controller);
    const pid = mainPid(next);
    if (pid && limits) pid.output_limits = limits;
    trial.candidate.controller = next;
  }, name);
}

/** Every controller of the trial tuned with those before it closed. */
async function tuneInOrder() {
  const trial = draft.value;
  if (!trial) return;
  try {
    const found = await answered(api.POST("/api/v1/tune/in-order", { body: trial }));
    for (const remark of found.remarks) tell(remark);
    const order = found.loops.map((one) => one.name).join(", then ");
    adopt(found.trial, `tuned in order: ${order}`, null);
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

/** A trial of several loops that were set up together. */
function takeLoops(trial: Trial, name: string) {
  adopt(trial, name, null);
  view.value = "course";
  part.value = "candidate";
}

/** A trial on the chosen model, or on the plant behind the loop, in place of what the row stands on. */
async function renew(on: "model" | "plant", model: string | null = null) {
  try {
    const fresh = await proposal({ on, model_id: model });
    const chosen = state.models.find((model) => model.id === fresh.model_id);
    const where = chosen ? `model ${letter(chosen.number)}` : "plant behind the loop";
    adopt(fresh.trial, `${where}, ${fresh.settings}`, fresh.model_id ?? null);
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

/** Another plant: settings and scenario follow it, where there is a rule for them. */
async function replacePlant(plant: Trial["plant"], name: string) {
  try {
    const fresh = await proposal({ on: "plant", plant });
    adopt(fresh.trial, `${name}, ${fresh.settings}`, null);
  } catch (error) {
    // No settings follow from a rule: those before stay, and what the plant does not know leaves the scenario.
    const before = draft.value;
    const moved = before
      ? await answered(api.POST("/api/v1/trials/on-plant", { body: { trial: before, plant } })).catch(
          () => null,
        )
      : null;
    change((trial) => {
      trial.plant = plant;
      if (moved) trial.scenario.events = moved.trial.scenario.events;
    }, name);
    const left = moved?.left_out.length ?? 0;
    const without = left ? ` without ${plural(left, "event")} that this plant does not know` : "";
    tell(`Settings and scenario stay as they were${without}: ${messageOf(error)}`);
  }
}

const isOnChosenModel = computed(() => !chosenInstead(state.models, base.value?.model_id));

// --- the trail: named, annotated, starred, deleted ---

const starredOnly = useKept(`starred of ${state.tag}`, () => false);
const rows = computed(() => (starredOnly.value ? state.trials.filter((row) => row.starred) : state.trials));
const editing = ref<InstanceType<typeof EditDialog>["$props"]["what"]>(null);
const deleting = ref<InstanceType<typeof DeleteDialog>["$props"]["what"]>(null);

async function editRow(row: TrialRow, edit: Partial<Schemas["TrialChange"]>, force = false) {
  const { label, remark, starred } = row;
  const params = { path: { id: row.id }, header: ifMatch(row.revision, force) };
  await answered(api.PUT("/api/v1/trials/{id}", { params, body: { label, remark, starred, ...edit } }));
  await loop.refreshTrials();
}

async function star(row: TrialRow) {
  try {
    await editRow(row, { starred: !row.starred });
  } catch (error) {
    tell(messageOf(error));
    await loop.refreshTrials();
  }
}

function actionsOf(row: TrialRow) {
  return [
    {
      title: "Rename, remark …",
      act: () =>
        (editing.value = {
          title: `Trial ${letter(row.number)}`,
          nameLabel: "Name",
          texts: { name: row.label, remark: row.remark },
          keep: ({ name: text, remark }, force) => editRow(row, { label: text, remark }, force),
        }),
    },
    { title: row.starred ? "Take the star off" : "Star it", act: () => star(row) },
    ...(row.id !== base.value?.id
      ? [{ title: over.value.has(row.id) ? "Take off again" : "Lay over", act: () => toggleOver(row) }]
      : []),
    ...(row.of_older_engine ? [{ title: "Compute again", act: () => computeAgain(row) }] : []),
    {
      title: "Delete …",
      danger: true,
      act: () =>
        (deleting.value = {
          kind: "trial",
          id: row.id,
          remove: () => answered(api.DELETE("/api/v1/trials/{id}", { params: { path: { id: row.id } } })),
        }),
    },
  ];
}

/** Gives a trial the figures of the present engine, and says whether they differ. */
async function computeAgain(row: TrialRow) {
  try {
    const again = await answered(
      api.POST("/api/v1/trials/{id}/assess", { params: { path: { id: row.id } } }),
    );
    await loop.refreshTrials();
    tell(
      again.differs
        ? `Trial ${letter(row.number)}: ${changesOfFigures(again.before, again.row).join(", ")}.`
        : `The figures of trial ${letter(row.number)} are the same as before.`,
    );
  } catch (error) {
    tell(messageOf(error));
  }
}

async function afterDeletion() {
  selected.value = null;
  await loop.refreshTrials();
}

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
  const name = base.value && !isChanged.value ? letter(base.value.number) : "unsaved";
  return { name, result: result.value, trial: draft.value };
});

const further = computed(() => [
  ...(shown.value.trial && mainPid(shown.value.trial.candidate.controller)
    ? [
        { key: ERROR, title: ERROR, unit: pvUnit.value },
        { key: OPEN_LOOP, title: OPEN_LOOP, unit: "" },
        { key: TERMS, title: TERMS, unit: "%" },
      ]
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

/** The same plant under the same loads with the output standing still. */
const openLoop = shallowRef<Schemas["Trace"] | null>(null);
watch(
  () => (extra.value.has(OPEN_LOOP) && shown.value.trial ? JSON.stringify(shown.value.trial) : ""),
  gathered(async () => {
    const trial = shown.value.trial;
    if (!trial || !extra.value.has(OPEN_LOOP)) {
      openLoop.value = null;
      return;
    }
    const answer = await answered(
      api.POST("/api/v1/simulate/open-loop", { params: { query: {} }, body: plain(trial) }),
    ).catch(() => null);
    openLoop.value = answer?.trace ?? null;
  }, 250),
);

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
  if (extra.value.has(OPEN_LOOP) && openLoop.value)
    under.push({ name: "open", trace: openLoop.value, colour: "--over-4", dash: [2, 4] });
  if (!isFlipped.value)
    halves.value.forEach((half, k) =>
      under.push({ ...half, colour: "--ink", dash: k === 0 ? [1, 2] : [6, 3], thin: true }),
    );
  const drawn: Drawn = { name, trace: main.trace, colour: "--pv", dash: [] };
  const [load] = main.assessment.metrics.load_responses;
  return coursePanels(trial, drawn, load, under, extra.value, !isFlipped.value);
});

const marks = computed<Mark[]>(() =>
  shown.value.trial
    ? courseMarks(shown.value.trial, description.value, shown.value.result?.trace ?? null, !isFlipped.value)
    : [],
);
/** The whole length of the trial, even where it was stopped before its end. */
const extent = computed<[number, number]>(() => [0, shown.value.trial?.scenario.duration ?? 1]);

/** A mark of the strip was drawn to another time: whole scans, and round numbers where the trial is long. A limit, to another value. */
function drag(key: string, to: number, settled: boolean) {
  if (key.startsWith("limit ")) {
    change((trial) => moveLimit(trial, key.slice("limit ".length), to));
    if (settled) void keep();
    return;
  }
  const [, index, of] = /^event (\d+) ?(.*)$/.exec(key) ?? [];
  const trial = draft.value;
  if (!trial) return;
  const { duration, scan } = trial.scenario;
  const grain = Math.max(scan, 10 ** Math.floor(Math.log10(duration / 500)));
  const at = Number(Math.min(Math.max(Math.round(to / grain) * grain, 0), duration).toPrecision(6));
  change((next) => {
    const event = eventsOf(next, of ?? "")[Number(index)];
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
      `${sheet.name}: ${number(sheet.at_start, 4)} → ${number(sheet.at_end, 4)} ${sheet.unit}, closes within ${number(sheet.closure, 2)} of the throughput`,
  ),
);

function drawn() {
  if (performance.getEntriesByName("antistasis-change").length === 0) return;
  // In the frame that shows the curve, when it is on the canvas.
  queueMicrotask(() => {
    if (performance.getEntriesByName("antistasis-change").length === 0) return;
    performance.measure("antistasis-change-to-curve", "antistasis-change");
    performance.clearMarks("antistasis-change");
  });
}

const pvUnit = computed(() => shown.value.trial?.plant.pv.span.unit ?? state.detail?.pv.span.unit ?? "");
/** The model that a trial stands on, where its record has changed since it was fitted. */
const staleModelOf = (row: TrialRow | null) =>
  state.models.find((model) => model.id === row?.model_id && model.stale) ?? null;
// --- figures of any signal as further columns of the trail ---

const kpis = useKpis(state);

useKeys({
  " ": () => (flipped.value = !flipped.value),
  s: () => base.value && void star(base.value),
  o: () => base.value && toggleOver(base.value),
  p: () => base.value && void pin(base.value),
});
</script>

<template>
  <StepFrame>
    <template #strip>
      <StateNotice
        v-if="!base && (failure || (!hasModel && !hasPlant))"
        :kind="failure ? 'failed' : 'empty'"
        :title="failure ? 'No trial can be proposed' : 'Nothing to control yet'"
      >
        <p>{{ failure || "A trial needs a model of the process, or a simulated plant." }}</p>
        <div class="mt-3 flex flex-wrap justify-center gap-2">
          <RouterLink class="button" :to="{ name: state.records.length ? 'model' : 'measure' }">
            {{ state.records.length ? "Fit a model" : "Load a record" }}
          </RouterLink>
          <button v-if="hasPlant" type="button" class="button" @click="renew('plant').then(keep)">
            Begin on the plant behind the loop
          </button>
          <span class="flex items-center gap-2">
            <BeginningSelect
              v-model="beginning"
              class="max-w-[220px]"
              :beginnings="beginnings"
              label="Process to begin on"
            />
            <button type="button" class="button" @click="beginOnPlant">Begin on it</button>
          </span>
        </div>
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
          <ViewTabs
            v-model="view"
            :views="VIEWS.filter((one) => one.key !== 'ahead' || isPredictive)"
            label="Views of the trial"
          />
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
            :title="`${state.tag}, ${shown.name === 'unsaved' ? 'unsaved trial' : `trial ${shown.name}`}${view === 'course' ? '' : `, ${VIEWS.find((known) => known.key === view)?.title.toLowerCase()}`}`"
            :file-name="`${draft?.plant.pv.tag} trial ${shown.name}${view === 'course' ? '' : ` ${view}`}`"
            :view="['course', 'balances'].includes(view) ? null : viewBox"
            @failed="refusal = $event"
          />
        </div>
        <p
          v-if="loops.length > 1 && setsItsOp && !isPredictive && ALONE.includes(view)"
          class="mr-3 mb-1 border-l-[3px] border-caution pl-3 text-[12.5px]"
        >
          △ {{ loops[0]?.name }} alone, as if the other loops stood still. Its margins with them closed stand
          at the right.
        </p>
        <div v-if="!['course', 'balances'].includes(view)" ref="viewBox" class="flex min-h-0 flex-1 flex-col">
          <template v-if="view === 'ahead' && draft && isPredictive">
            <ViewTabs
              v-model="planned"
              class="mb-1 self-start"
              :views="PLANNED"
              label="A plan, both horizons, or the whole law"
            />
            <AheadView
              v-if="planned === 'scan'"
              :trial="draft"
              :trace="result?.trace ?? null"
              :loop-tag="state.tag"
            />
            <HorizonView
              v-else-if="planned === 'horizons'"
              :trial="draft"
              :loop-tag="state.tag"
              @change="changePredictive"
              @settled="keep"
            />
            <RegionsView v-else :trial="draft" />
          </template>
          <StateNotice v-else-if="view === 'ahead'" kind="empty" title="Nothing is planned here">
            A predictive controller plans ahead: choose one at Candidate, and see what it expects at every
            scan.
          </StateNotice>
          <template v-else-if="view === 'operating' && draft">
            <ViewTabs
              v-model="operating"
              class="mb-1 self-start"
              :views="OPERATING"
              label="Operating point or range"
            />
            <OperatingView v-if="operating === 'here'" :plant="draft.plant" />
            <OverLoadView v-else :trial="draft" :description="description" @take="takeLoops" />
          </template>
          <InteractionView
            v-else-if="view === 'interaction' && draft"
            :plant="draft.plant"
            :description="description"
            :loop-tag="state.tag"
            @take="takeLoops"
          />
          <StateNotice
            v-else-if="isPredictive && (view === 'trade-off' || (view === 'robustness' && isOfSeveral))"
            kind="empty"
            :title="view === 'trade-off' ? 'Not of a predictive controller' : 'Not of several CVs or MVs'"
          >
            <template v-if="view === 'trade-off'">
              This view judges the settings of a PID loop or a Smith predictor. What a predictive controller
              gives and takes is seen in a sweep over its times and moves (Sweep).
            </template>
            <template v-else>
              The map of mismatch is of one CV and one MV. How this one bears a wrong model is seen over
              frequency (Frequency), in a sweep over the plant (Sweep), and in a proof with ranges (Prove).
            </template>
          </StateNotice>
          <StateNotice
            v-else-if="ALONE.includes(view) && !setsItsOp"
            kind="empty"
            title="No loop to be looked at alone"
          >
            {{ state.tag }} is a cascade, an override or a split range in this trial: how it works follows
            from all its controllers together. The margins at the right are those of each with the others
            closed.
          </StateNotice>
          <FrequencyView
            v-else-if="view === 'frequency' && draft"
            :trial="draft"
            :controller="loops.length > 1 ? focus || (loops[0]?.name ?? '') : ''"
          />
          <TradeOffView
            v-else-if="view === 'trade-off' && draft"
            :trial="draft"
            :present="result?.assessment.margins?.max_sensitivity ?? null"
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
        </div>
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
              :stale="
                refusal
                  ? isWaiting
                    ? 'from before: the server does not answer'
                    : 'of the trial before the refused change'
                  : ''
              "
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
            {{ base && !isChanged ? `Trial ${letter(base.number)}` : "Unsaved trial" }}
            <span v-if="isFlipped" class="text-caution"> · showing {{ letter(pinned?.number ?? 0) }}</span>
          </span>
          <span class="text-[12.5px] font-normal text-soft">{{
            isPredictive ? "% of span" : "ideal form, % of span"
          }}</span>
        </h1>
        <p v-if="base?.remark && !isChanged" class="mb-1 border-l-[3px] border-rule pl-3 whitespace-pre-wrap">
          {{ base.remark }}
        </p>
        <ViewTabs v-model="part" :views="PARTS" label="Parts of the trial" class="mb-2" />
        <ViewTabs
          v-if="loops.length > 1 && (part === 'candidate' || part === 'scenario')"
          v-model="focus"
          :views="loops.map((one) => ({ key: one.key, title: one.name }))"
          label="Controllers of the trial"
          class="mb-2"
        />
        <div :inert="isFlipped" @keydown.enter.capture="mean">
          <WiredMargin
            v-if="part === 'candidate' && focus"
            :trial="shown.trial ?? draft"
            :of="focus"
            :description="description"
            @change="(edit, name) => change(edit, name ?? null)"
            @settled="keep"
            @gone="focus = ''"
          />
          <CandidateMargin
            v-else-if="part === 'candidate'"
            :trial="shown.trial ?? draft"
            :description="description"
            :closed-loop-time-constant="closedLoopTimeConstant"
            @change="(edit, name) => edited(edit, name ?? null)"
            @tune="tune"
            @made="focus = $event"
            @settled="keep"
          />
          <p v-else-if="part === 'tune' && isPredictive" class="border-l-[3px] border-rule pl-3">
            A predictive controller is set up at Candidate: how soon a signal should be back, how calm a valve
            should be, limits and their ranks. Rules and searches give settings of PID controllers: choose PID
            there to come back to them.
          </p>
          <template v-else-if="part === 'tune'">
            <p v-if="loops.length > 1" class="mb-2 border-l-[3px] border-caution pl-3 text-[12.5px]">
              △ Rules and searches take {{ loops[0]?.name }} alone, as if the other loops stood still.
              {{ setsItsOp ? "" : "It sets no OP by itself here: what they find is for a loop that does." }}
              Loops are tuned together at Interaction.
              <button type="button" class="button mt-1 block" @click="tuneInOrder">
                Tune all as they are wired, the inner one first
              </button>
            </p>
            <TunePanel :trial="draft" :tuning="tuning" @take="takeController" />
          </template>
          <PlantEditor
            v-else-if="part === 'plant'"
            :trial="shown.trial ?? draft"
            :description="description"
            :resting-op="result?.trace.columns[2]?.values[0] ?? null"
            @change="(edit, name) => change(edit, name ?? null)"
            @replace="replacePlant"
            @settled="keep"
          />
          <ScenarioEditor
            v-else-if="part === 'scenario'"
            :trial="shown.trial ?? draft"
            :refused-event="eventOf(refusedField)"
            :of="focus"
            :description="description"
            @change="(edit, name) => change(edit, name ?? null)"
            @settled="keep"
          />
          <MeasurePanel v-else-if="result" :trial="draft" :trace="result.trace" :kpis="kpis" />
        </div>
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
      </template>
    </template>
    <template v-if="draft && view !== 'sweep' && (refusal || (shown.result && part !== 'signal'))" #figures>
      <p v-if="refusal" class="mb-2 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
        {{ refusal }}
        <button
          v-if="refusedPart && refusedPart !== part"
          type="button"
          class="underline decoration-rule underline-offset-2"
          @click="part = refusedPart"
        >
          Show it at {{ PARTS.find((known) => known.key === refusedPart)?.title }}
        </button>
      </p>
      <div v-if="shown.result && part !== 'signal'" class="grid gap-2" :class="refusal ? 'opacity-60' : ''">
        <p v-if="loops.length > 1 && inFocus" class="text-[12.5px] text-soft">
          of {{ loops.find((one) => one.key === focus)?.name }}, the other loops closed
        </p>
        <LoopFigures
          v-if="inFocus"
          :assessment="inFocus.figures"
          :pv-unit="inFocus.unit"
          :keeps-within="inFocus.keepsWithin"
        />
        <p v-else class="text-[12.5px] text-soft">
          {{ focus }} has no loop of its own to be measured: it sets no OP, or what it measures belongs to
          another.
        </p>
        <p v-if="staleModelOf(base)" class="border-l-[3px] border-caution pl-3">
          △ Model {{ letter(staleModelOf(base)?.number ?? 0) }}, which this trial stands on, is stale: its
          record or the preparation has changed since. Fit it anew at Model.
        </p>
        <VerdictNote
          v-for="verdict in inFocus?.figures.verdicts ?? []"
          :key="verdict.text"
          :verdict="verdict"
        />
      </div>
    </template>
    <template #trail>
      <label
        v-if="state.trials.length"
        class="absolute top-[6px] right-3 z-20 flex items-center gap-1 bg-paper pl-2 text-[12.5px] text-soft print:hidden"
      >
        <input v-model="starredOnly" type="checkbox" /> ★ only
      </label>
      <ControlTrail
        v-if="state.trials.length"
        :rows="rows"
        :base="base"
        :pinned="pinned"
        :over="over"
        :overlays="overlays"
        :pv-unit="pvUnit"
        :kpis="kpis"
        :actions-of="actionsOf"
        @select="selected = $event.id"
        @pin="pin"
        @lay-over="toggleOver"
      />
      <p v-else class="p-4 text-soft">
        Every trial stands here, named by what it changed from the one before.
      </p>
      <ShowOlder v-if="!starredOnly" rows="trials" note="pinned and starred ones stand here in any case" />
      <UnreadableRows rows="trials" />
      <p v-if="state.trials.length && rows.length === 0" class="px-4 text-soft">
        No trial is starred: <kbd class="key">s</kbd> stars the one that is looked at.
      </p>
    </template>
  </StepFrame>
  <EditDialog :what="editing" @close="editing = null" />
  <DeleteDialog :what="deleting" @close="deleting = null" @deleted="afterDeletion" />
</template>
