<script setup lang="ts">
/** The steps laid over a record: each can be switched off, moved, changed, taken away and undone. */
import { computed, ref, watch } from "vue";
import {
  ApiError,
  answered,
  api,
  fieldOf,
  ifMatch,
  messageOf,
  type RecordInfo,
  type Schemas,
} from "../api/client";
import { useKept } from "../lib/kept";
import { FORMS, stepInWords, type Operation, type Step } from "../lib/preparation";
import StepForm from "./StepForm.vue";
import { useRetry } from "../lib/retry";

const props = defineProps<{ record: RecordInfo; view: () => [number, number] }>();
const emit = defineEmits<{ applied: [] }>();

const steps = ref<Step[]>([]);
const notes = ref<(string | null | undefined)[]>([]);
/** What was done and undone, and the step that is being written, stay when the place is left. */
const undone = useKept<Step[][]>(`undone on ${props.record.id}`, () => []);
const done = useKept<Step[][]>(`done on ${props.record.id}`, () => []);
const open = useKept<{ index: number; operation: Operation } | null>(
  `step of ${props.record.id}`,
  () => null,
);
const problem = ref("");
const field = ref("");
const busy = ref(false);
/** The revision that a change begins from. */
let revision = props.record.revision;
/** What somebody else laid over the record meanwhile, and what was to be laid here. */
const conflict = ref<{ theirs: Step[]; mine: Step[] } | null>(null);

watch(
  () => props.record.revision,
  (now) => {
    if (busy.value || now <= revision) return;
    // Another tab or person laid other steps: they are shown, nothing here is lost.
    revision = now;
    steps.value = props.record.preparation.map((step) => ({ ...step }));
    notes.value = [];
    emit("applied");
    void look();
    useRetry(() => problem.value !== "", look);
  },
);

/** What the steps that lie there did. */
async function look() {
  if (steps.value.length === 0) return;
  try {
    const found = await answered(
      api.GET("/api/v1/records/{id}/preparation", { params: { path: { id: props.record.id } } }),
    );
    notes.value = found.notes;
  } catch (error) {
    problem.value = messageOf(error);
  }
}
steps.value = props.record.preparation.map((step) => ({ ...step }));
void look();

/** Lays these steps over the record; what stood before can be brought back. */
async function put(next: Step[], force = false): Promise<boolean> {
  busy.value = true;
  [problem.value, field.value, conflict.value] = ["", "", null];
  try {
    const applied = await answered(
      api.PUT("/api/v1/records/{id}/preparation", {
        params: { path: { id: props.record.id }, header: ifMatch(revision, force) },
        body: next,
      }),
    );
    revision = applied.revision;
    steps.value = applied.steps;
    notes.value = applied.notes;
    emit("applied");
    return true;
  } catch (error) {
    problem.value = messageOf(error);
    field.value = fieldOf(error);
    const now = error instanceof ApiError ? (error.current as unknown as RecordInfo | null) : null;
    if (now) {
      conflict.value = { theirs: now.preparation, mine: next };
      revision = now.revision;
    }
    return false;
  } finally {
    busy.value = false;
  }
}

async function settle(which: "theirs" | "mine") {
  const both = conflict.value;
  if (!both) return;
  if (which === "mine") {
    done.value.push(both.theirs);
    await put(both.mine, true);
  } else {
    steps.value = both.theirs;
    [problem.value, conflict.value] = ["", null];
    emit("applied");
    void look();
  }
}

/** Leaves the step that is being written; what was refused of it is of no more concern. */
function leave() {
  open.value = null;
  if (!conflict.value) [problem.value, field.value] = ["", ""];
}

async function change(next: Step[]) {
  const before = steps.value;
  if (await put(next)) {
    done.value.push(before);
    undone.value = [];
    open.value = null;
  }
}

async function undo() {
  const before = done.value.at(-1);
  const now = steps.value;
  if (before && (await put(before))) {
    done.value.pop();
    undone.value.push(now);
  }
}

async function redo() {
  const next = undone.value.at(-1);
  const now = steps.value;
  if (next && (await put(next))) {
    undone.value.pop();
    done.value.push(now);
  }
}

function toggled(index: number) {
  void change(steps.value.map((step, k) => (k === index ? { ...step, enabled: !step.enabled } : step)));
}

function moved(index: number, by: number) {
  const next = [...steps.value];
  const [step] = next.splice(index, 1);
  if (step) next.splice(index + by, 0, step);
  void change(next);
}

function removed(index: number) {
  void change(steps.value.filter((_, k) => k !== index));
}

function begin(chooser: HTMLSelectElement) {
  const form = FORMS[chooser.value as Operation["kind"]];
  chooser.value = "";
  if (!form) return;
  const view = props.view().map((time) => Number(time.toPrecision(6))) as [number, number];
  const interval =
    props.record.sample_interval ?? props.record.duration / Math.max(1, props.record.length - 1);
  open.value = { index: steps.value.length, operation: form.begin(view, interval) };
}

function take(operation: Operation) {
  const at = open.value?.index ?? steps.value.length;
  const next = [...steps.value];
  next[at] = { operation, enabled: next[at]?.enabled ?? true };
  void change(next);
}

const tags = computed(() => {
  const computedTags = steps.value.flatMap(({ operation }) =>
    operation.kind === "compute" ? [operation.tag] : [],
  );
  return [...new Set([...props.record.channels.map((channel) => channel.tag), ...computedTags])];
});
const kinds = Object.entries(FORMS) as [Schemas["Operation"]["kind"], (typeof FORMS)["window"]][];
</script>

<template>
  <p class="mb-2 text-soft">
    Steps over the untouched record: grey before, green after. Times are those of the untouched record.
  </p>
  <ol v-if="steps.length" class="mb-2 grid gap-1" aria-label="Steps">
    <li v-for="(step, k) in steps" :key="k" class="border border-rule bg-raised p-[5px]">
      <div class="flex items-center gap-1">
        <input
          type="checkbox"
          :checked="step.enabled"
          :disabled="busy"
          :aria-label="`Step ${k + 1} is applied`"
          @change="toggled(k)"
        />
        <button
          type="button"
          class="min-w-0 flex-1 truncate text-left"
          :class="step.enabled ? '' : 'text-soft line-through'"
          :title="stepInWords(step.operation)"
          @click="open = { index: k, operation: { ...step.operation } }"
        >
          {{ k + 1 }}. {{ stepInWords(step.operation) }}
        </button>
        <button
          type="button"
          class="px-1 text-soft hover:text-ink"
          :disabled="k === 0 || busy"
          :aria-label="`Move step ${k + 1} up`"
          @click="moved(k, -1)"
        >
          ↑
        </button>
        <button
          type="button"
          class="px-1 text-soft hover:text-ink"
          :disabled="k === steps.length - 1 || busy"
          :aria-label="`Move step ${k + 1} down`"
          @click="moved(k, 1)"
        >
          ↓
        </button>
        <button
          type="button"
          class="px-1 text-soft hover:text-ink"
          :disabled="busy"
          :aria-label="`Take step ${k + 1} away`"
          @click="removed(k)"
        >
          ✕
        </button>
      </div>
      <p v-if="notes[k]" class="pl-5 text-[12px] text-soft">{{ notes[k] }}</p>
      <StepForm
        v-if="open?.index === k"
        :operation="open.operation"
        :tags="tags"
        :view="view"
        @take="take"
        @close="leave"
      />
    </li>
  </ol>
  <div v-if="open && open.index === steps.length" class="mb-2 border border-pv bg-raised p-[5px]">
    <strong class="font-semibold">{{ FORMS[open.operation.kind].title }}</strong>
    <StepForm :operation="open.operation" :tags="tags" :view="view" @take="take" @close="leave" />
  </div>
  <div class="flex flex-wrap items-center gap-2">
    <select
      class="entry"
      aria-label="Add a step"
      :value="''"
      @change="begin($event.target as HTMLSelectElement)"
    >
      <option value="" disabled>Add a step …</option>
      <option v-for="[kind, form] in kinds" :key="kind" :value="kind">{{ form.title }}</option>
    </select>
    <button type="button" class="button" :disabled="done.length === 0 || busy" @click="undo">Undo</button>
    <button type="button" class="button" :disabled="undone.length === 0 || busy" @click="redo">Redo</button>
  </div>
  <p v-if="problem" class="mt-2 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
    {{ problem }}
  </p>
  <div v-if="conflict" class="mt-2 grid gap-1 border-l-[3px] border-caution pl-3">
    <p>Theirs: {{ conflict.theirs.map((step) => stepInWords(step.operation)).join("; ") || "no step" }}</p>
    <p>Yours: {{ conflict.mine.map((step) => stepInWords(step.operation)).join("; ") || "no step" }}</p>
    <div class="flex gap-2">
      <button type="button" class="button" @click="settle('theirs')">Take theirs</button>
      <button type="button" class="button" @click="settle('mine')">Lay mine in its place</button>
    </div>
  </div>
</template>
