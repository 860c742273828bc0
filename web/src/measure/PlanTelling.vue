<script setup lang="ts">
/** What the planned test would tell of the numbers of a physical model of the loop. */
import { computed, ref, watch } from "vue";
import { answered, api, isAbort, messageOf, type ModelRow, type Schemas } from "../api/client";
import VerdictNote from "../components/VerdictNote.vue";
import { letter, number } from "../lib/format";
import { inWords } from "../lib/structures";

const props = defineProps<{ tag: string; models: ModelRow[]; spec: Schemas["ExperimentSpec"] }>();

const chosen = ref("");
const row = computed(() => props.models.find((one) => one.id === chosen.value) ?? props.models[0] ?? null);
const telling = ref<Schemas["Telling"] | null>(null);
const problem = ref("");
let aborter = new AbortController();
let waiting = 0;

async function ask(experiment: Schemas["ExperimentSpec"], physical: Schemas["PhysicalOptions"]) {
  aborter.abort();
  aborter = new AbortController();
  try {
    const params = { path: { tag: props.tag } };
    const body = { experiment, physical };
    const request = api.POST("/api/v1/loops/{tag}/experiments/telling", {
      params,
      body,
      signal: aborter.signal,
    });
    telling.value = await answered(request);
    problem.value = "";
  } catch (error) {
    if (!isAbort(error)) [telling.value, problem.value] = [null, messageOf(error)];
  }
}
watch(
  [() => props.spec, () => row.value?.model.physical?.fitted],
  ([spec, fitted]) => {
    window.clearTimeout(waiting);
    if (fitted) waiting = window.setTimeout(() => void ask(spec, fitted), 150);
  },
  { immediate: true, deep: true },
);
</script>

<template>
  <section v-if="row" class="mt-3 grid gap-1">
    <label class="flex items-center gap-2 text-[13px]">
      Of a balance
      <select
        class="entry !py-0"
        aria-label="Physical model that the test is for"
        :value="row.id"
        @change="chosen = ($event.target as HTMLSelectElement).value"
      >
        <option v-for="one in models" :key="one.id" :value="one.id">
          {{ letter(one.number) }} {{ one.name || "physical" }}
        </option>
      </select>
    </label>
    <p v-if="problem" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ problem }}</p>
    <template v-else-if="telling">
      <table class="w-full" aria-label="Expected errors of the physical model">
        <thead class="text-[12px] text-soft">
          <tr>
            <th class="text-left font-normal">expected of its fit</th>
            <th class="text-right font-normal">± std. error</th>
            <th class="pl-2 text-left font-normal">unit</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in telling.numbers" :key="one.name" class="border-t border-rule">
            <td class="py-[2px]">{{ inWords(one.name) }} {{ number(one.value, 4) }}</td>
            <td class="text-right font-semibold">
              {{ one.standard_error == null ? "not told" : number(one.standard_error, 2) }}
            </td>
            <td class="pl-2 text-soft">{{ one.unit }}</td>
          </tr>
        </tbody>
      </table>
      <VerdictNote v-for="verdict in telling.verdicts" :key="verdict.text" :verdict="verdict" />
    </template>
  </section>
</template>
