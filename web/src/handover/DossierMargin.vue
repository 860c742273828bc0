<script setup lang="ts">
/** What is written for the dossier, and which parts it has in which order. */
import { computed } from "vue";
import type { TrialRow } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import ConflictNote from "../components/ConflictNote.vue";
import ProblemNote from "../components/ProblemNote.vue";
import TextField from "../components/TextField.vue";
import { wholeNotation } from "../control/useNotation";
import { letter } from "../lib/format";
import type { ProofRow } from "../prove/proof";
import TargetFields from "./TargetFields.vue";
import { moved, type Part, type useDossier } from "./useDossier";

const props = defineProps<{
  dossier: ReturnType<typeof useDossier>;
  tag: string;
  row: TrialRow;
  proofs: ProofRow[];
}>();
const { spec, parts, trouble, field, theirs } = props.dossier;

const FORMS = [
  { form: "html", title: "Save as HTML" },
  { form: "pdf", title: "Save as PDF" },
  { form: "json", title: "Save as JSON" },
] as const;
const address = (form: string) =>
  `/api/v1/loops/${encodeURIComponent(props.tag)}/dossier/export?form=${form}`;

const isAbout = computed(() => spec.value?.trial === props.row.number);
function makeAbout() {
  if (spec.value) spec.value.trial = props.row.number;
}
const proof = computed({
  get: () => String(spec.value?.proof ?? ""),
  set: (text) => {
    if (spec.value) spec.value.proof = text ? Number(text) : null;
  },
});
const proofs = computed(() => [
  { value: "", title: "none" },
  ...props.proofs.map((one) => ({ value: String(one.number), title: `proof ${one.number}, ${one.label}` })),
]);
const digits = computed({
  get: () => spec.value?.digits ?? 3,
  set: (count) => {
    if (spec.value) spec.value.digits = count;
  },
});
const notation = computed({
  get: () => wholeNotation(spec.value?.notation ?? {}),
  set: (chosen) => {
    if (spec.value) spec.value.notation = chosen;
  },
});

type Written = "author" | "purpose" | "reason";
const written = (key: Written) =>
  computed({
    get: () => spec.value?.[key] ?? "",
    set: (text) => {
      if (spec.value) spec.value[key] = text;
    },
  });
const author = written("author");
const purpose = written("purpose");
const reason = written("reason");

/** Instructions as lines: one is what stands between two line ends. */
const instructions = computed({
  get: () => (spec.value?.instructions ?? []).join("\n"),
  set: (text) => {
    if (spec.value) spec.value.instructions = text === "" ? [] : text.split("\n");
  },
});

/** The parts that are in it in their order, then those that are not. */
const offered = computed(() => {
  const own = spec.value?.parts ?? [];
  const titleOf = (part: Part) => parts.value.find((one) => one.part === part)?.title ?? part;
  const rest = parts.value.map((one) => one.part).filter((part) => !own.includes(part));
  return [...own, ...rest].map((part) => ({ part, title: titleOf(part), isIn: own.includes(part) }));
});
function toggle(part: Part) {
  if (!spec.value) return;
  const own = spec.value.parts;
  spec.value.parts = own.includes(part) ? own.filter((one) => one !== part) : [...own, part];
}
function move(part: Part, by: -1 | 1) {
  if (spec.value) spec.value.parts = moved(spec.value.parts, part, by);
}
</script>

<template>
  <div v-if="spec" class="grid gap-3">
    <ConflictNote
      v-if="theirs"
      text="Somebody else changed this dossier while you were writing."
      @theirs="dossier.takeTheirs()"
      @mine="dossier.keepMine()"
    />
    <ProblemNote v-else-if="trouble && !field" :text="trouble" />
    <div class="flex flex-wrap gap-2">
      <a v-for="{ form, title } in FORMS" :key="form" class="button" :href="address(form)">{{ title }}</a>
    </div>
    <p class="text-[12.5px] text-soft">
      About candidate {{ letter(spec.trial) }}. What is written here is kept as you write.
    </p>
    <button v-if="!isAbout" type="button" class="button justify-self-start" @click="makeAbout">
      Make it about {{ letter(row.number) }}
    </button>
    <ProblemNote v-if="field === 'trial' || field === 'proof'" :text="trouble" />
    <ChoiceField v-model="proof" label="Proof in it" :choices="proofs" />
    <TextField
      v-model="author"
      label="Handed over by"
      :most="200"
      :problem="field === 'author' ? trouble : ''"
    />
    <TextField
      v-model="purpose"
      label="What the loop is for"
      :lines="2"
      :most="4000"
      :problem="field === 'purpose' ? trouble : ''"
    />
    <TextField
      v-model="reason"
      label="Why this candidate"
      :lines="2"
      :most="4000"
      :problem="field === 'reason' ? trouble : ''"
    />
    <TextField
      v-model="instructions"
      label="Operating instructions, one a line"
      :lines="7"
      :most="100000"
      :problem="field.startsWith('instructions') ? trouble : ''"
    />
    <fieldset class="grid gap-1">
      <legend class="mb-1">Parts, in their order</legend>
      <div v-for="{ part, title, isIn } in offered" :key="part" class="flex items-center gap-2">
        <label class="flex flex-1 items-center gap-2">
          <input
            type="checkbox"
            :checked="isIn"
            :disabled="isIn && spec.parts.length === 1"
            @change="toggle(part)"
          />
          {{ title }}
        </label>
        <template v-if="isIn">
          <button
            type="button"
            class="button px-2"
            :aria-label="`${title} up`"
            :disabled="spec.parts[0] === part"
            @click="move(part, -1)"
          >
            ↑
          </button>
          <button
            type="button"
            class="button px-2"
            :aria-label="`${title} down`"
            :disabled="spec.parts.at(-1) === part"
            @click="move(part, 1)"
          >
            ↓
          </button>
        </template>
      </div>
    </fieldset>
    <fieldset class="grid gap-2">
      <legend class="mb-1">Settings as the controller on the plant takes them</legend>
      <TargetFields v-model:notation="notation" v-model:digits="digits" />
    </fieldset>
  </div>
</template>
