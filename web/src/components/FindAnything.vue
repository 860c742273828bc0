<script setup lang="ts">
import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
  DialogTitle,
} from "@headlessui/vue";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { answered, api, type LoopSummary } from "../api/client";
import { letter } from "../lib/format";
import { useKeys } from "../lib/keys";
import { gathered } from "../lib/live";
import { shortName } from "../lib/structures";

interface Place {
  title: string;
  note: string;
  path: string;
}

const STEPS = ["measure", "model", "control"];

const route = useRoute();
const router = useRouter();
const open = ref(false);
const nothing: Place | null = null;
const words = ref("");
const loops = ref<LoopSummary[]>([]);
/** Records, models and trials of the loop that is open. */
const inLoop = ref<Place[]>([]);

const places = computed<Place[]>(() => {
  const all = loops.value.flatMap((loop) =>
    STEPS.map((step) => ({
      title: `${loop.tag} ${step}`,
      note: `${loop.area} · ${loop.name}`,
      path: `/loops/${encodeURIComponent(loop.tag)}/${step}`,
    })),
  );
  const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = (place: Place) =>
    wanted.every((word) => `${place.title} ${place.note}`.toLowerCase().includes(word));
  const found = [{ title: "All loops", note: "", path: "/" }, ...inLoop.value, ...all].filter(fits);
  return found.slice(0, 14);
});

/** What the loop that is open holds, by name. */
async function listLoop(tag: string): Promise<Place[]> {
  const params = { params: { path: { tag } } };
  const [records, models, trials] = await Promise.all([
    answered(api.GET("/api/v1/loops/{tag}/records", params)),
    answered(api.GET("/api/v1/loops/{tag}/models", params)),
    answered(api.GET("/api/v1/loops/{tag}/trials", params)),
  ]);
  const at = (step: string, query: string) => `/loops/${encodeURIComponent(tag)}/${step}?${query}`;
  return [
    ...records.map((row) => ({
      title: row.name,
      note: `record of ${tag}`,
      path: at("measure", `record=${row.id}`),
    })),
    ...models.map((row) => ({
      title: `${letter(row.number)} ${shortName(row.model.structure)}${row.name ? ` ${row.name}` : ""}`,
      note: `model of ${tag}, ${row.record_name}`,
      path: at("model", `model=${row.id}&record=${row.record_id}`),
    })),
    ...trials.map((row) => ({
      title: `${letter(row.number)} ${row.label}`,
      note: `trial of ${tag}`,
      path: at("control", `trial=${row.id}`),
    })),
  ];
}

/** The loops that have the words; a word may also be a step's, which the server does not know. */
async function listLoops() {
  const own = words.value
    .split(/\s+/)
    .filter((word) => !STEPS.some((step) => step.startsWith(word.toLowerCase())));
  const query = { first: 50, words: own.join(" ") };
  loops.value = await answered(api.GET("/api/v1/loops", { params: { query } })).catch(() => []);
}
watch(
  words,
  gathered(() => void listLoops(), 150),
);

async function show() {
  words.value = "";
  open.value = true;
  await listLoops();
  const { tag } = route.params;
  inLoop.value = typeof tag === "string" ? await listLoop(tag).catch(() => []) : [];
}

function go(place: Place | null) {
  open.value = false;
  if (place) void router.push(place.path);
}

useKeys({ "/": () => void show() });
</script>

<template>
  <button type="button" class="button whitespace-nowrap !text-soft" @click="show">
    Find<span class="max-[1150px]:sr-only"> anything</span> <kbd class="key">/</kbd>
  </button>
  <Dialog :open="open" class="relative z-40" @close="open = false">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center pt-[12vh]">
      <!-- The list, which is always there, would take the first Escape for itself. -->
      <DialogPanel
        class="w-full max-w-[560px] rounded-lg border border-rule bg-paper p-3 shadow-xl"
        @keydown.esc.capture.stop="open = false"
      >
        <DialogTitle class="sr-only">Find anything</DialogTitle>
        <Combobox :model-value="nothing" @update:model-value="go">
          <ComboboxInput
            class="entry w-full !py-2 text-[15px]"
            placeholder="Loop, record, model, trial, area or step"
            aria-label="Find anything"
            @change="words = $event.target.value"
          />
          <ComboboxOptions static class="mt-2 max-h-[50vh] overflow-auto">
            <ComboboxOption
              v-for="place in places"
              :key="`${place.path} ${place.title}`"
              v-slot="{ active }"
              :value="place"
            >
              <div class="flex gap-3 rounded px-2 py-1" :class="active ? 'bg-wash' : ''">
                <strong class="font-semibold">{{ place.title }}</strong>
                <span class="text-soft">{{ place.note }}</span>
              </div>
            </ComboboxOption>
          </ComboboxOptions>
          <p v-if="places.length === 0" class="px-2 py-3 text-soft">Nothing has that name.</p>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
