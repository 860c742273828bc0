<script setup lang="ts">
/** The steps laid over a record: each can be switched off, moved, changed, taken away and undone. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type RecordInfo, type Schemas } from "../api/client";
import { FORMS, stepInWords, type Operation, type Step } from "../lib/preparation";
import StepForm from "./StepForm.vue";

const props = defineProps<{ record: RecordInfo; view: () => [number, number] }>();
const emit = defineEmits<{ applied: [] }>();

const steps = ref<Step[]>([]);
const notes = ref<(string | null | undefined)[]>([]);
const undone = ref<Step[][]>([]);
const done = ref<Step[][]>([]);
const problem = ref("");
const busy = ref(false);
/** The step that is being written: its place, or the end for a new one. */
const open = ref<{ index: number; operation: Operation } | null>(null);

watch(
  () => props.record.id,
  () => {
    steps.value = props.record.preparation.map((step) => ({ ...step }));
    [done.value, undone.value, notes.value, open.value, problem.value] = [[], [], [], null, ""];
    if (steps.value.length > 0) void put(steps.value);
  },
  { immediate: true },
);

/** Lays these steps over the record; what stood before can be brought back. */
async function put(next: Step[]): Promise<boolean> {
  busy.value = true;
  problem.value = "";
  try {
    const applied = await answered(
      api.PUT("/api/v1/records/{id}/preparation", {
        params: { path: { id: props.record.id } },
        body: next,
      }),
    );
    steps.value = applied.steps;
    notes.value = applied.notes;
    emit("applied");
    return true;
  } catch (error) {
    problem.value = messageOf(error);
    return false;
  } finally {
    busy.value = false;
  }
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
        @close="open = null"
      />
    </li>
  </ol>
  <div v-if="open && open.index === steps.length" class="mb-2 border border-pv bg-raised p-[5px]">
    <strong class="font-semibold">{{ FORMS[open.operation.kind].title }}</strong>
    <StepForm :operation="open.operation" :tags="tags" :view="view" @take="take" @close="open = null" />
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
</template>
