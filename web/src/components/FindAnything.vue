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
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { answered, api, type LoopSummary } from "../api/client";
import { useKeys } from "../lib/keys";

interface Place {
  title: string;
  note: string;
  path: string;
}

const router = useRouter();
const open = ref(false);
const nothing: Place | null = null;
const words = ref("");
const loops = ref<LoopSummary[]>([]);

const places = computed<Place[]>(() => {
  const steps = ["measure", "model", "control"];
  const all = loops.value.flatMap((loop) =>
    steps.map((step) => ({
      title: `${loop.tag} ${step}`,
      note: `${loop.area} · ${loop.name}`,
      path: `/loops/${encodeURIComponent(loop.tag)}/${step}`,
    })),
  );
  const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = (place: Place) =>
    wanted.every((word) => `${place.title} ${place.note}`.toLowerCase().includes(word));
  return [{ title: "All loops", note: "", path: "/" }, ...all].filter(fits).slice(0, 12);
});

async function show() {
  words.value = "";
  open.value = true;
  loops.value = await answered(api.GET("/api/v1/loops")).catch(() => []);
}

function go(place: Place | null) {
  open.value = false;
  if (place) void router.push(place.path);
}

useKeys({ "/": () => void show() });
</script>

<template>
  <button type="button" class="button !text-soft" @click="show">
    Find anything <kbd class="key">/</kbd>
  </button>
  <Dialog :open="open" class="relative z-40" @close="open = false">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center pt-[12vh]">
      <DialogPanel class="w-[520px] rounded-lg border border-rule bg-paper p-3 shadow-xl">
        <DialogTitle class="sr-only">Find anything</DialogTitle>
        <Combobox :model-value="nothing" @update:model-value="go">
          <ComboboxInput
            class="entry w-full !py-2 text-[15px]"
            placeholder="Tag, name, area or step"
            @change="words = $event.target.value"
          />
          <ComboboxOptions static class="mt-2 max-h-[50vh] overflow-auto">
            <ComboboxOption v-for="place in places" :key="place.path" v-slot="{ active }" :value="place">
              <div class="flex gap-3 rounded px-2 py-1" :class="active ? 'bg-wash' : ''">
                <strong class="font-semibold">{{ place.title }}</strong>
                <span class="text-soft">{{ place.note }}</span>
              </div>
            </ComboboxOption>
          </ComboboxOptions>
          <p v-if="places.length === 0" class="px-2 py-3 text-soft">Nothing is called that.</p>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
