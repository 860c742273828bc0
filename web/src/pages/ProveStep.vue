<script setup lang="ts">
/** Prove: candidates under disturbances with limits, on the plant and on those that it may be. */
import { computed, onMounted, ref, watch } from "vue";
import { answered, api, ApiError, ifMatch, messageOf, type TrialRow } from "../api/client";
import DeleteDialog from "../components/DeleteDialog.vue";
import EditDialog from "../components/EditDialog.vue";
import RowMenu from "../components/RowMenu.vue";
import ShowOlder from "../components/ShowOlder.vue";
import StateNotice from "../components/StateNotice.vue";
import StepFrame from "../components/StepFrame.vue";
import TrailTable from "../components/TrailTable.vue";
import UnreadableRows from "../components/UnreadableRows.vue";
import VerdictNote from "../components/VerdictNote.vue";
import ViewTabs from "../components/ViewTabs.vue";
import { useDescription } from "../control/useDescription";
import { letter } from "../lib/format";
import { useKept } from "../lib/kept";
import { useLoop } from "../lib/loop";
import { tell } from "../lib/notes";
import { plain } from "../lib/plain";
import { chosenInstead } from "../model/chosen";
import { useSelected } from "../lib/query";
import CellStrip from "../prove/CellStrip.vue";
import {
  best,
  contenders,
  firstRows,
  howFar,
  sizeText,
  trialOf,
  type Proof,
  type ProofRow,
} from "../prove/proof";
import ProofMargin from "../prove/ProofMargin.vue";
import ProofTable from "../prove/ProofTable.vue";
import SpreadView from "../prove/SpreadView.vue";
import RejectionView from "../prove/RejectionView.vue";
import TradeView from "../prove/TradeView.vue";
import { useProofJob } from "../prove/useProofJob";

const loop = useLoop();
const { state } = loop;
const selected = useSelected("proof");
const row = computed(() => state.proofs.find((one) => one.id === selected.value) ?? state.proofs[0] ?? null);

const VIEWS = [
  { key: "table", title: "Table" },
  { key: "strips", title: "Strips" },
  { key: "spread", title: "Spread" },
  { key: "trade", title: "Trade" },
  { key: "frequency", title: "Over frequency" },
];
const chosenView = useSelected("view");
const view = computed({
  get: () => VIEWS.find((known) => known.key === chosenView.value)?.key ?? "table",
  set: (key) => (chosenView.value = key === "table" ? null : key),
});
const disturbance = ref(0);
const candidate = ref(0);
const figure = ref("");
/** Figures that any disturbance of the proof has. */
const figures = computed(() => [
  ...new Set((row.value?.result.rows ?? []).flatMap((one) => one.criteria.map((told) => told.title))),
]);
watch(
  () => row.value?.id,
  () => {
    disturbance.value = 0;
    candidate.value = 0;
    if (!figures.value.includes(figure.value)) figure.value = "";
  },
);
function open(d: number, c: number) {
  [disturbance.value, candidate.value] = [d, c];
  view.value = "strips";
}

// --- the draft: what is proven next ---

const draft = useKept<Proof | null>(`proof of ${state.tag}`, () => null);
const modelId = useKept<string | null>(`model of the proof of ${state.tag}`, () => null);
const failure = ref("");
const refusedField = ref("");
const isProposing = ref(false);
/** Plants that are drawn where nothing is said. */
const USUAL_PLANTS = 200;
const job = useProofJob(state.tag);

/** Whether the draft is another proof than the one that is shown. */
const isChanged = computed(
  () =>
    draft.value !== null && (!row.value || JSON.stringify(draft.value) !== JSON.stringify(row.value.proof)),
);

function change(edit: (proof: Proof) => void) {
  if (!draft.value) return;
  const next = plain(draft.value);
  edit(next);
  draft.value = next;
  [failure.value, refusedField.value] = ["", ""];
}

/** The trial that a proof begins with: the pinned one, as it runs, else the newest that controls. */
const beginning = computed(() => {
  const controlling = state.trials.filter((one) => one.trial.candidate.controller.kind !== "manual");
  return controlling.find((one) => one.pinned) ?? controlling[0] ?? null;
});

async function proposedSet(base: TrialRow) {
  return answered(api.POST("/api/v1/proofs/propose", { body: plain(base.trial) }));
}

/** Where none is proposed: what the trial itself went through. */
async function scenarioAsSet(base: TrialRow): Promise<Proof["set"]> {
  const name = `scenario of ${letter(base.number)}`;
  const body = { trial: plain(base.trial), name };
  const own = await answered(api.POST("/api/v1/proofs/disturbance", { body }));
  return { name: `${state.tag}, made by hand`, note: "", disturbances: [own] };
}

async function begin(setOf = proposedSet) {
  const base = beginning.value;
  if (!base || isProposing.value) return;
  isProposing.value = true;
  failure.value = "";
  try {
    const set = await setOf(base);
    const { plant, scenario } = plain(base.trial);
    draft.value = {
      version: 1,
      plant,
      scan: scenario.scan,
      candidates: plain(contenders(firstRows(state.trials, base), scenario.scan)),
      set,
      seed: 1,
    };
    modelId.value = null;
    await withModel(base);
  } catch (error) {
    failure.value = messageOf(error);
  } finally {
    isProposing.value = false;
  }
}

/** What the model leaves open, where the plant stands on one that tells. */
async function withModel(base: TrialRow) {
  const model = state.models.find((one) => one.id === base.model_id);
  if (!model) return;
  const body = { plant: plain(base.trial.plant), model_id: model.id, plants: USUAL_PLANTS };
  const found = await answered(api.POST("/api/v1/proofs/uncertainty", { body })).catch(() => null);
  if (!found) return;
  change((proof) => (proof.uncertainty = found));
  modelId.value = model.id;
}

/** Another set for the plant of the draft; what was there can be brought back. */
async function propose() {
  const before = draft.value;
  const base = beginning.value;
  if (!before || !base) return;
  try {
    const on = { ...plain(base), trial: { ...plain(base.trial), plant: plain(before.plant) } };
    const set = await proposedSet(on);
    change((proof) => (proof.set = set));
    tell(`Proposed: ${set.disturbances.length} disturbances in place of those before.`, {
      title: "Take those before",
      act: () => void change((proof) => (proof.set = before.set)),
    });
  } catch (error) {
    failure.value = messageOf(error);
  }
}

/** The plant of a trial: what was drawn about another one no longer holds. */
function takePlant(from: TrialRow) {
  change((proof) => {
    proof.plant = plain(from.trial.plant);
    proof.uncertainty = { kind: "none" };
  });
  modelId.value = null;
}

onMounted(async () => {
  if (draft.value) return;
  if (row.value) take(row.value);
  else await begin();
});

/** A proof of the trail as the draft. */
function take(from: ProofRow) {
  draft.value = plain(from.proof);
  modelId.value = from.model_id ?? null;
  [failure.value, refusedField.value] = ["", ""];
}

/** Another row: what was changed and not proven stays in a note to come back to. */
function select(to: ProofRow) {
  const before = draft.value;
  const beforeModel = modelId.value;
  const wasChanged = isChanged.value;
  selected.value = to.id;
  take(to);
  if (wasChanged && before)
    tell("The changes that were not proven are put aside.", {
      title: "Take them again",
      act: () => {
        draft.value = before;
        modelId.value = beforeModel;
      },
    });
}

async function prove() {
  const proof = draft.value;
  if (!proof || job.state.value) return;
  await proven(() => job.follow({ proof: plain(proof), label: null, model_id: modelId.value }));
}

async function proven(end: () => Promise<ProofRow | null>) {
  [failure.value, refusedField.value] = ["", ""];
  try {
    const made = await end();
    if (!made) return;
    await loop.refreshProofs();
    selected.value = made.id;
    take(made);
  } catch (error) {
    failure.value = messageOf(error);
    refusedField.value = error instanceof ApiError ? (error.field ?? "") : "";
  }
}
const share = computed(() => Math.round(100 * (job.state.value?.share ?? 0)));
// What was begun before this page was opened goes on all the same.
onMounted(() => void proven(job.takeUp));

// --- what is shown ---

/** The plant of the draft as a trial is asked about. */
const { description } = useDescription(
  computed(() =>
    draft.value && beginning.value ? { ...beginning.value.trial, plant: draft.value.plant } : null,
  ),
);

const labels = computed(() =>
  (row.value?.proof.candidates ?? []).map((own) => {
    const from = trialOf(state.trials, own);
    return from ? (from.pinned ? `as it runs: ${from.label}` : from.label) : "";
  }),
);

/** What has changed upstream since a proof was made. */
function staleOf(one: ProofRow): string {
  const own = state.models.find((model) => model.id === one.model_id);
  const chosen = chosenInstead(state.models, own?.id);
  if (one.of_older_engine) return "computed by an older engine";
  if (own?.stale) return `model ${letter(own.number)} is stale`;
  if (chosen) return `model ${letter(chosen.number)} is chosen now`;
  const changed = one.proof.candidates.filter((contender) => !trialOf(state.trials, contender));
  return changed.length ? `no trial ${changed.map((contender) => contender.name).join(", ")} any more` : "";
}
const standsOn = (one: ProofRow) => {
  const own = state.models.find((model) => model.id === one.model_id);
  return own
    ? `model ${letter(own.number)}`
    : one.proof.uncertainty?.kind === "ranges"
      ? "ranges"
      : "the plant as it is";
};

const columns = [
  { key: "mark", title: "Proof", text: true },
  { key: "label", title: "what was held against what", text: true },
  { key: "candidates", title: "candidates" },
  { key: "disturbances", title: "disturbances" },
  { key: "plants", title: "plants" },
  { key: "best", title: "best", text: true },
  { key: "passes", title: "passes all" },
  { key: "stands", title: "stands on", text: true },
  { key: "actions", title: "", text: true },
];
const editing = ref<InstanceType<typeof EditDialog>["$props"]["what"]>(null);
const deleting = ref<InstanceType<typeof DeleteDialog>["$props"]["what"]>(null);

function save(one: ProofRow, form: "proof" | "table" | "junit") {
  window.location.assign(`/api/v1/proofs/${one.id}/export?form=${form}`);
}
function actionsOf(one: ProofRow) {
  return [
    {
      title: "Rename, remark …",
      act: () =>
        (editing.value = {
          title: `Proof ${one.number}`,
          nameLabel: "Name",
          texts: { name: one.label, remark: one.remark },
          keep: async ({ name, remark }, force) => {
            const params = { path: { id: one.id }, header: ifMatch(one.revision, force) };
            await answered(api.PUT("/api/v1/proofs/{id}", { params, body: { label: name, remark } }));
            await loop.refreshProofs();
          },
        }),
    },
    { title: "Save the proof (JSON)", act: () => save(one, "proof") },
    { title: "Save the table (JSON)", act: () => save(one, "table") },
    { title: "Save the report (JUnit XML)", act: () => save(one, "junit") },
    {
      title: "Delete …",
      danger: true,
      act: () =>
        (deleting.value = {
          kind: "proof",
          id: one.id,
          remove: () => answered(api.DELETE("/api/v1/proofs/{id}", { params: { path: { id: one.id } } })),
        }),
    },
  ];
}
async function afterDeletion() {
  selected.value = null;
  await loop.refreshProofs();
}
</script>

<template>
  <StepFrame>
    <template #strip>
      <div class="flex h-full min-h-0 flex-col pl-2">
        <div
          v-if="job.state.value"
          class="flex flex-wrap items-center gap-3 pr-3 pb-2 text-[13px]"
          role="status"
        >
          <span class="font-semibold">Proving</span>
          <progress class="w-40" max="100" :value="share" aria-label="How far the proof is">
            {{ share }} %
          </progress>
          <span class="text-soft tabular-nums">{{ howFar(job.state.value) }}</span>
          <button type="button" class="button ml-auto" @click="job.cancel">Cancel the proof</button>
        </div>
        <template v-if="row">
          <div class="flex flex-wrap items-center gap-3 pr-3 pb-1">
            <ViewTabs v-model="view" :views="VIEWS" label="Views of the proof" />
            <label v-if="view === 'table'" class="ml-auto text-[13px]">
              <span class="mr-1 text-soft">Figure</span>
              <select v-model="figure" class="entry max-w-[230px]">
                <option value="">what decides</option>
                <option v-for="title in figures" :key="title">{{ title }}</option>
              </select>
            </label>
          </div>
          <p
            v-if="isChanged && !job.state.value"
            class="mr-3 mb-1 border-l-[3px] border-caution pl-3 text-[12.5px]"
          >
            △ Proof {{ row.number }} as it was made; the margin holds another one: prove it.
          </p>
          <ProofTable v-if="view === 'table'" :row="row" :figure="figure" :labels="labels" @open="open" />
          <CellStrip
            v-else-if="view === 'strips'"
            :row="row"
            :disturbance="disturbance"
            :candidate="candidate"
            @open="open"
          />
          <SpreadView v-else-if="view === 'spread'" v-model:disturbance="disturbance" :row="row" />
          <TradeView v-else-if="view === 'trade'" :row="row" />
          <RejectionView v-else :row="row" />
        </template>
        <StateNotice v-else-if="!beginning" kind="empty" title="Nothing to prove yet">
          <p>A proof needs a trial with a controller.</p>
          <RouterLink class="button mt-3 inline-block" :to="{ name: 'control' }"
            >Make one at Control</RouterLink
          >
        </StateNotice>
        <StateNotice v-else-if="isProposing" kind="loading" title="A proving set is being proposed" />
        <StateNotice
          v-else-if="!draft"
          kind="failed"
          title="No proving set can be proposed"
          :retry="() => begin()"
        >
          <p>{{ failure }}</p>
          <button v-if="beginning" type="button" class="button mt-3" @click="begin(scenarioAsSet)">
            Begin with the scenario of {{ letter(beginning.number) }}
          </button>
        </StateNotice>
        <StateNotice v-else-if="!job.state.value" kind="empty" title="Not proven yet">
          <p>
            {{ sizeText(draft) }} stand at the right for {{ state.tag }}: look whether the limits are what the
            plant bears, then prove.
          </p>
          <button type="button" class="button button-main mt-3" @click="prove">Prove it</button>
        </StateNotice>
      </div>
    </template>
    <template #margin>
      <template v-if="draft">
        <h1 class="heading mb-1 flex flex-wrap items-baseline justify-between gap-x-2">
          <span>{{ row && !isChanged ? `Proof ${row.number}` : "Not proven yet" }}</span>
          <span class="text-[12px] font-normal text-soft">{{ sizeText(draft) }}</span>
        </h1>
        <p v-if="row?.remark && !isChanged" class="mb-1 border-l-[3px] border-rule pl-3 whitespace-pre-wrap">
          {{ row.remark }}
        </p>
        <div class="mb-2 flex flex-wrap gap-2">
          <button
            type="button"
            class="button button-main"
            :disabled="
              job.state.value !== null ||
              draft.candidates.length === 0 ||
              (row !== null && !isChanged && !row.of_older_engine)
            "
            @click="prove"
          >
            {{ row && !isChanged ? "Proven" : "Prove it" }}
          </button>
          <button v-if="row && isChanged" type="button" class="button" @click="take(row)">
            Back to proof {{ row.number }}
          </button>
        </div>
        <p v-if="failure" class="mb-2 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ failure }}
        </p>
        <ProofMargin
          :draft="draft"
          :description="description"
          :model-id="modelId"
          :refused-field="refusedField"
          :problem="failure"
          @change="change"
          @model="modelId = $event"
          @plant="takePlant"
          @propose="propose"
        />
      </template>
    </template>
    <template v-if="row && !isChanged" #figures>
      <div class="grid gap-2">
        <VerdictNote v-for="verdict in row.result.verdicts" :key="verdict.text" :verdict="verdict" />
        <p v-if="staleOf(row)" class="border-l-[3px] border-caution pl-3">△ Stale: {{ staleOf(row) }}.</p>
      </div>
    </template>
    <template #trail>
      <TrailTable
        v-if="state.proofs.length"
        label="Proofs"
        :rows="state.proofs"
        :columns="columns"
        :name-of="(one) => `Proof ${one.number}, ${one.label}`"
        :selected="row?.id ?? null"
        @select="select"
      >
        <template #mark="{ row: one }"
          ><strong class="font-semibold">{{ one.number }}</strong></template
        >
        <template #label="{ row: one }">
          <span
            class="inline-block max-w-[300px] truncate align-bottom"
            :title="one.remark ? `${one.label}\n${one.remark}` : one.label"
            >{{ one.label }}</span
          >
        </template>
        <template #candidates="{ row: one }">{{ one.proof.candidates.length }}</template>
        <template #disturbances="{ row: one }">{{ one.proof.set.disturbances.length }}</template>
        <template #plants="{ row: one }">{{
          one.proof.uncertainty && "plants" in one.proof.uncertainty ? one.proof.uncertainty.plants : 1
        }}</template>
        <template #best="{ row: one }">{{ best(one.result)?.name ?? "–" }}</template>
        <template #passes="{ row: one }">{{ best(one.result)?.text ?? "no limit" }}</template>
        <template #stands="{ row: one }">
          {{ standsOn(one) }}
          <span v-if="staleOf(one)" class="ml-1 text-caution">△ {{ staleOf(one) }}</span>
        </template>
        <template #actions="{ row: one }"
          ><RowMenu :name="`proof ${one.number}`" :actions="actionsOf(one)"
        /></template>
      </TrailTable>
      <p v-else class="p-4 text-soft">Every proof stands here with its table.</p>
      <ShowOlder rows="proofs" note="they come with their tables" />
      <UnreadableRows rows="proofs" />
    </template>
  </StepFrame>
  <EditDialog :what="editing" @close="editing = null" />
  <DeleteDialog :what="deleting" @close="deleting = null" @deleted="afterDeletion" />
</template>
