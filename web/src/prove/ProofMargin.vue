<script setup lang="ts">
/** What is proven: candidates, plants, disturbances. */
import { computed, ref } from "vue";
import { answered, api, messageOf, type Schemas, type TrialRow } from "../api/client";
import NumberField from "../components/NumberField.vue";
import ViewTabs from "../components/ViewTabs.vue";
import SavedList from "../control/SavedList.vue";
import { useSaved } from "../control/useSaved";
import { letter } from "../lib/format";
import { useLoop } from "../lib/loop";
import { plain } from "../lib/plain";
import { inWords } from "../lib/structures";
import FoundInRecord from "./FoundInRecord.vue";
import { contenders, nameOf, takenIn, trialOf, type Disturbance, type Proof, type ProvingSet } from "./proof";
import SetEditor from "./SetEditor.vue";

const props = defineProps<{
  draft: Proof;
  description: Schemas["Description"] | null;
  /** The model whose uncertainty the draft's plants come from. */
  modelId: string | null;
  refusedField: string;
  problem: string;
}>();
const emit = defineEmits<{
  change: [edit: (proof: Proof) => void];
  model: [id: string | null];
  plant: [row: TrialRow];
  propose: [];
}>();
const { state } = useLoop();
const saved = useSaved("proving_set");
const trouble = ref("");
const PARTS = [
  { key: "candidates", title: "Candidates" },
  { key: "plants", title: "Plants" },
  { key: "set", title: "Proving set" },
];
const chosen = ref("candidates");
/** What is refused is shown where it is typed. */
const refusedPart = computed(() => {
  const first = props.refusedField.split(/[.[]/)[0] ?? "";
  return {
    candidates: "candidates",
    compared_with: "candidates",
    uncertainty: "plants",
    plant: "plants",
    set: "set",
  }[first];
});
const part = computed({
  get: () => (props.problem && refusedPart.value) || chosen.value,
  set: (key) => (chosen.value = key),
});

const rows = computed(() => state.trials.filter((row) => row.trial.candidate.controller.kind !== "manual"));
const isIn = (row: TrialRow) => props.draft.candidates.some((own) => trialOf([row], own) !== null);
/** Candidates whose trials are gone or were changed: they stay until they are taken out. */
const others = computed(() => props.draft.candidates.filter((own) => !trialOf(state.trials, own)));

function toggle(row: TrialRow) {
  emit("change", (proof) => {
    if (isIn(row)) proof.candidates = proof.candidates.filter((own) => !trialOf([row], own));
    else {
      proof.candidates = proof.candidates.filter((own) => own.name !== nameOf(row));
      proof.candidates.push(...plain(contenders([row], proof.scan)));
    }
    if (!proof.candidates.some((own) => own.name === proof.compared_with)) proof.compared_with = null;
  });
}
const takeOut = (name: string) =>
  emit("change", (proof) => {
    proof.candidates = proof.candidates.filter((own) => own.name !== name);
    if (proof.compared_with === name) proof.compared_with = null;
  });

// --- plants ---

const kind = computed(() => props.draft.uncertainty?.kind ?? "none");
const plants = computed(() =>
  props.draft.uncertainty && "plants" in props.draft.uncertainty ? props.draft.uncertainty.plants : 200,
);
const plantText = JSON.stringify;
const onPlant = computed(() =>
  state.trials.find((row) => plantText(row.trial.plant) === plantText(props.draft.plant)),
);
const distinct = computed(() => {
  const known = new Set<string>();
  return state.trials.filter((row) => {
    const text = plantText(row.trial.plant);
    return !known.has(text) && known.add(text);
  });
});
/** The model that the plant stands on, where it stands on one. */
const model = computed(() => state.models.find((one) => one.id === onPlant.value?.model_id) ?? null);
async function spread(how: string) {
  trouble.value = "";
  if (how === "none") {
    emit("model", null);
    return emit("change", (proof) => (proof.uncertainty = { kind: "none" }));
  }
  const id = how === "covariance" ? (model.value?.id ?? null) : null;
  try {
    const found = await answered(
      api.POST("/api/v1/proofs/uncertainty", {
        body: { plant: plain(props.draft.plant), model_id: id, plants: plants.value },
      }),
    );
    emit("model", id);
    emit("change", (proof) => (proof.uncertainty = found));
  } catch (error) {
    trouble.value = messageOf(error);
  }
}
const ranges = computed(() =>
  props.draft.uncertainty?.kind === "ranges" ? props.draft.uncertainty.ranges : [],
);
const nameOfNumber = (text: string) => inWords(text.replace(/^\//, "").replaceAll("/", " "));
function setRange(index: number, end: "low" | "high", value: number | null) {
  if (value === null) return;
  emit("change", (proof) => {
    const own = proof.uncertainty;
    if (own?.kind === "ranges" && own.ranges[index]) own.ranges[index][end] = value;
  });
}
function setPlants(value: number | null) {
  if (value === null) return;
  emit("change", (proof) => {
    if (proof.uncertainty && "plants" in proof.uncertainty) proof.uncertainty.plants = Math.round(value);
  });
}
const wrong = (field: string) => (props.refusedField.startsWith(field) ? props.problem : "");

const editSet = (edit: (set: ProvingSet) => void) => emit("change", (proof) => edit(proof.set));
const takeIn = (found: Disturbance[]) => editSet((set) => takenIn(set, plain(found)));
</script>

<template>
  <ViewTabs v-model="part" :views="PARTS" label="Parts of the proof" class="mb-2" />
  <template v-if="part === 'candidates'">
    <p class="mb-1 text-[12.5px] text-soft">Trials whose candidates are held against each other, up to 12.</p>
    <ul class="mb-2 max-h-[260px] overflow-y-auto border-y border-rule">
      <li v-for="row in rows" :key="row.id">
        <label class="flex items-baseline gap-2 py-[2px]">
          <input type="checkbox" :checked="isIn(row)" @change="toggle(row)" />
          <strong>{{ letter(row.number) }}</strong>
          <span class="min-w-0 flex-1 truncate" :title="row.label">{{ row.label }}</span>
          <span v-if="row.pinned" class="text-[11.5px] text-soft">as it runs</span>
        </label>
      </li>
      <li v-for="own in others" :key="own.name" class="flex items-baseline gap-2 py-[2px]">
        <button
          type="button"
          class="text-soft hover:text-limit"
          :aria-label="`Take out ${own.name}`"
          @click="takeOut(own.name)"
        >
          ✕
        </button>
        <strong>{{ own.name }}</strong>
        <span class="text-[12.5px] text-soft">of this proof; no such trial in the trail now</span>
      </li>
    </ul>
    <label class="grid grid-cols-[minmax(0,1fr)_158px] items-center gap-2">
      <span>Compared with</span>
      <select
        class="entry"
        :value="draft.compared_with ?? draft.candidates[0]?.name"
        @change="
          emit('change', (proof) => (proof.compared_with = ($event.target as HTMLSelectElement).value))
        "
      >
        <option v-for="own in draft.candidates" :key="own.name">{{ own.name }}</option>
      </select>
    </label>
    <p v-if="draft.candidates.length === 0" class="mt-1 text-caution">△ Choose at least one.</p>
  </template>
  <template v-else-if="part === 'plants'">
    <label class="mb-2 grid grid-cols-[minmax(0,1fr)_190px] items-center gap-2">
      <span>Plant</span>
      <select
        class="entry"
        :value="onPlant?.id ?? ''"
        @change="
          emit(
            'plant',
            distinct.find((row) => row.id === ($event.target as HTMLSelectElement).value) ?? distinct[0]!,
          )
        "
      >
        <option v-if="!onPlant" value="">of this proof</option>
        <option v-for="row in distinct" :key="row.id" :value="row.id">
          of trial {{ letter(row.number) }}: {{ row.label }}
        </option>
      </select>
    </label>
    <fieldset class="mb-2 grid gap-1">
      <legend class="text-[12.5px] text-soft">What else it may be</legend>
      <label class="flex items-baseline gap-2">
        <input type="radio" name="spread" :checked="kind === 'none'" @change="spread('none')" /> nothing: the
        plant as it is
      </label>
      <label class="flex items-baseline gap-2" :class="model ? '' : 'text-soft'">
        <input
          type="radio"
          name="spread"
          :checked="kind === 'covariance'"
          :disabled="!model"
          @change="spread('covariance')"
        />
        the model’s uncertainty<template v-if="model"> (model {{ letter(model.number) }})</template>
        <template v-else>: the plant stands on no model</template>
      </label>
      <label class="flex items-baseline gap-2">
        <input type="radio" name="spread" :checked="kind === 'ranges'" @change="spread('ranges')" /> its
        numbers lie in ranges
      </label>
    </fieldset>
    <p v-if="trouble" class="mb-2 text-limit" role="alert">{{ trouble }}</p>
    <NumberField
      v-if="kind !== 'none'"
      label="Plants drawn"
      unit=""
      :min="2"
      :max="5000"
      :model-value="plants"
      :problem="wrong('uncertainty.plants')"
      @update:model-value="setPlants"
    />
    <ul v-if="draft.uncertainty?.kind === 'covariance'" class="mt-2 text-[13px]">
      <li v-for="(name, k) in draft.uncertainty.parameters" :key="name">
        {{ nameOfNumber(name) }}: ±
        {{ Math.sqrt(draft.uncertainty.covariance[k]?.[k] ?? 0).toPrecision(3) }} (standard error)
      </li>
    </ul>
    <div v-for="(range, k) in ranges" :key="range.parameter" class="mt-2 border-l-[3px] border-rule pl-2">
      <p class="flex text-[12.5px]">
        <span class="flex-1">{{ nameOfNumber(range.parameter) }}</span>
        <button
          type="button"
          class="text-soft hover:text-limit"
          :disabled="ranges.length < 2"
          :aria-label="`${nameOfNumber(range.parameter)} is known: leave it out`"
          @click="
            emit('change', (proof) => {
              if (proof.uncertainty?.kind === 'ranges') proof.uncertainty.ranges.splice(k, 1);
            })
          "
        >
          ✕
        </button>
      </p>
      <NumberField
        label="from"
        unit=""
        :model-value="range.low"
        :problem="wrong(`uncertainty.ranges[${k}].low`)"
        @update:model-value="(value) => setRange(k, 'low', value)"
      />
      <NumberField
        label="to"
        unit=""
        :model-value="range.high"
        :problem="wrong(`uncertainty.ranges[${k}].high`)"
        @update:model-value="(value) => setRange(k, 'high', value)"
      />
    </div>
    <NumberField
      class="mt-2"
      label="Seed"
      unit=""
      hint="of plants, noise and walks"
      :min="0"
      :model-value="draft.seed ?? 0"
      @update:model-value="
        (value) => value !== null && emit('change', (proof) => (proof.seed = Math.round(value)))
      "
    />
  </template>
  <template v-else>
    <div class="mb-2 flex flex-wrap gap-2">
      <SavedList
        what="proving set"
        :items="saved.saved.value"
        :unreadable="saved.unreadable.value"
        :keep="(item, name, remark, force) => saved.change(item, name, remark, null, force)"
        @use="(item) => emit('change', (proof) => (proof.set = saved.specOf(item)))"
        @save="(name) => saved.save(name, plain({ ...draft.set, name }))"
        @replace="
          (item) => saved.change(item, item.name, item.remark, plain({ ...draft.set, name: item.name }))
        "
        @forget="saved.forget"
      />
      <button type="button" class="button !py-[2px] text-[12.5px]" @click="emit('propose')">
        Propose one
      </button>
      <FoundInRecord :draft="draft" @found="takeIn" />
    </div>
    <p v-if="saved.trouble.value" class="mb-2 text-limit" role="alert">{{ saved.trouble.value }}</p>
    <SetEditor
      :set="draft.set"
      :plant="draft.plant"
      :trials="rows"
      :description="description"
      :refused="refusedField"
      :problem="problem"
      @change="editSet"
    />
  </template>
</template>
