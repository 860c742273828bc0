<script setup lang="ts">
/** Name and remark of something; where somebody else has changed it meanwhile, both versions are told. */
import { computed, reactive, ref, watch } from "vue";
import { ApiError, messageOf } from "../api/client";
import ConflictNote from "./ConflictNote.vue";
import DialogFrame from "./DialogFrame.vue";
import ProblemNote from "./ProblemNote.vue";
import TextField from "./TextField.vue";

export interface Texts {
  name: string;
  remark: string;
}

const props = defineProps<{
  /** What is edited; null while the dialog is closed. */
  what: {
    title: string;
    nameLabel: string;
    texts: Texts;
    /** Keeps the texts; `force` overwrites what somebody else has changed. */
    keep: (texts: Texts, force: boolean) => Promise<unknown>;
  } | null;
}>();
const emit = defineEmits<{ close: [] }>();

const texts = reactive<Texts>({ name: "", remark: "" });
const problem = ref("");
const field = ref("");
const theirs = ref<Record<string, unknown> | null>(null);
const busy = ref(false);

watch(
  () => props.what,
  (what) => {
    if (!what) return;
    Object.assign(texts, what.texts);
    [problem.value, field.value, theirs.value] = ["", "", null];
  },
);

const theirTexts = computed(() => {
  const now = theirs.value;
  if (!now) return null;
  const name = now.name ?? now.label ?? "";
  return { name: String(name), remark: String(now.remark ?? "") };
});

async function keep(force: boolean) {
  if (!props.what || busy.value) return;
  busy.value = true;
  problem.value = "";
  field.value = "";
  try {
    await props.what.keep({ ...texts }, force);
    emit("close");
  } catch (error) {
    problem.value = messageOf(error);
    if (error instanceof ApiError) {
      field.value = error.field ?? "";
      theirs.value = error.current;
    }
  } finally {
    busy.value = false;
  }
}

function takeTheirs() {
  if (theirTexts.value) Object.assign(texts, theirTexts.value);
  theirs.value = null;
  problem.value = "";
}

const atName = computed(() => (["name", "label", "tag"].includes(field.value) ? problem.value : ""));
const atRemark = computed(() => (field.value === "remark" ? problem.value : ""));
</script>

<template>
  <DialogFrame :open="what !== null" :title="what?.title ?? ''" @close="emit('close')">
    <form class="mt-3 grid gap-3" @submit.prevent="keep(false)">
      <TextField v-model="texts.name" :label="what?.nameLabel ?? ''" :problem="atName" />
      <TextField v-model="texts.remark" label="Remark" :lines="4" :most="10000" :problem="atRemark" />
      <ConflictNote
        v-if="theirTexts"
        :text="`${problem} It is called “${theirTexts.name}” there${theirTexts.remark ? `, with the remark “${theirTexts.remark}”` : ''}; yours is above.`"
        @theirs="takeTheirs"
        @mine="keep(true)"
      />
      <ProblemNote v-else-if="!atName && !atRemark" :text="problem" />
      <div class="flex gap-2">
        <button type="submit" class="button button-main" :disabled="busy">Keep it</button>
        <button type="button" class="button" @click="emit('close')">Cancel</button>
      </div>
    </form>
  </DialogFrame>
</template>
