<script setup lang="ts">
/** A loop is made: with nothing, with a file that becomes its first record, or with a simulated plant behind it. */
import { computed, ref, useTemplateRef, watch } from "vue";
import { useRouter } from "vue-router";
import { answered, api, fieldOf, messageOf, type Plant } from "../api/client";
import DialogFrame from "../components/DialogFrame.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { useKept } from "../lib/kept";
import BeginningSelect from "./BeginningSelect.vue";
import { useBeginnings } from "./beginnings";
import CardFields from "./CardFields.vue";
import { emptyCard, makeLoop, type AreaInfo } from "./loops";
import { pendingFile } from "./pending";
import { plain } from "../lib/plain";

const props = defineProps<{ open: boolean; area: string }>();
const emit = defineEmits<{ close: [] }>();
const router = useRouter();

type Beginning = "nothing" | "file" | "plant";
const typed = useKept("new loop", () => ({
  card: emptyCard(),
  area: "",
  beginning: "nothing" as Beginning,
  plant: "",
}));
const areas = ref<AreaInfo[]>([]);
const { beginnings, refresh: readBeginnings } = useBeginnings();
const problem = ref("");
const field = ref("");
const busy = ref(false);
const file = ref<File | null>(null);
const chooser = useTemplateRef<HTMLInputElement>("chooser");

watch(
  () => props.open,
  async (open) => {
    if (!open) return;
    [problem.value, field.value] = ["", ""];
    if (props.area) typed.value.area = props.area;
    areas.value = await answered(api.GET("/api/v1/areas")).catch(() => []);
    if (!typed.value.area) typed.value.area = areas.value[0]?.name ?? "";
    await readBeginnings();
  },
);

/** The plant that is chosen, with the tags of the loop; its spans become those of the loop. */
async function plantFor(): Promise<Plant | null> {
  const chosen = beginnings.value.find((one) => one.key === typed.value.plant);
  return typed.value.beginning === "plant" && chosen ? chosen.plantFor(typed.value.card) : null;
}

async function make() {
  if (busy.value) return;
  busy.value = true;
  [problem.value, field.value] = ["", ""];
  try {
    const { area, beginning } = typed.value;
    const card = plain(typed.value.card);
    const plant = await plantFor();
    if (plant) card.pv.span = plant.pv.span;
    const made = await makeLoop({
      area,
      card,
      plant,
      span_is_guess: beginning === "file" && !card.pv.span.unit,
    });
    if (beginning === "file") pendingFile.value = file.value;
    const step = beginning === "plant" ? "control" : "measure";
    typed.value = { card: emptyCard(), area, beginning: "nothing", plant: "" };
    emit("close");
    await router.push({ name: step, params: { tag: made.tag } });
  } catch (error) {
    problem.value = messageOf(error);
    field.value = fieldOf(error);
  } finally {
    busy.value = false;
  }
}

const KNOWN = ["tag", "area", "name", "difficulty", "notes", "pv.tag", "op.tag"];
const isAtField = computed(() => KNOWN.includes(field.value) || field.value.includes(".span."));
</script>

<template>
  <DialogFrame :open="open" title="New loop" width="760px" @close="emit('close')">
    <form class="mt-3 grid gap-4" @submit.prevent="make">
      <CardFields
        v-model:card="typed.card"
        v-model:area="typed.area"
        :areas="areas"
        :field="field"
        :problem="problem"
        is-new
      />
      <fieldset class="grid gap-2">
        <legend class="mb-1 font-semibold">It begins with</legend>
        <label class="flex items-center gap-2">
          <input v-model="typed.beginning" type="radio" value="nothing" /> nothing: a record or a plant comes
          later
        </label>
        <label class="flex items-center gap-2">
          <input v-model="typed.beginning" type="radio" value="file" /> a record out of a file
        </label>
        <div v-if="typed.beginning === 'file'" class="ml-6 flex items-center gap-2">
          <button type="button" class="button" @click="chooser?.click()">Choose the file</button>
          <span class="text-soft">{{ file?.name ?? "CSV, XLSX, Parquet or JSON" }}</span>
          <input
            ref="chooser"
            type="file"
            class="sr-only"
            tabindex="-1"
            aria-label="File of the first record"
            accept=".csv,.txt,.tsv,.xlsx,.parquet,.json,text/*"
            @change="file = ($event.target as HTMLInputElement).files?.[0] ?? null"
          />
        </div>
        <label class="flex items-center gap-2">
          <input v-model="typed.beginning" type="radio" value="plant" /> a simulated plant, to try things on
        </label>
        <BeginningSelect
          v-if="typed.beginning === 'plant'"
          v-model="typed.plant"
          class="ml-6 w-[320px]"
          :beginnings="beginnings"
          label="Process of the plant"
        />
      </fieldset>
      <ProblemNote v-if="!isAtField" :text="problem" />
      <div class="flex gap-2">
        <button
          type="submit"
          class="button button-main"
          :disabled="busy || (typed.beginning === 'file' && !file)"
        >
          Make the loop
        </button>
        <button type="button" class="button" @click="emit('close')">Cancel</button>
      </div>
    </form>
  </DialogFrame>
</template>
