<script setup lang="ts">
/** Disturbances that were really there: looked for in a record behind a model, and taken into the proving set. */
import { computed, nextTick, ref, shallowRef, useTemplateRef, watch } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import ProblemNote from "../components/ProblemNote.vue";
import ThumbTrend from "../components/ThumbTrend.vue";
import VerdictNote from "../components/VerdictNote.vue";
import { duration, letter, number, plural } from "../lib/format";
import { useLoop } from "../lib/loop";
import { plain } from "../lib/plain";
import { trialOfDraft, type Disturbance, type Proof } from "./proof";

const props = defineProps<{ draft: Proof }>();
const emit = defineEmits<{ found: [disturbances: Disturbance[]] }>();
const { state } = useLoop();

const isOpen = ref(false);
const chosenModel = ref<string | null>(null);
const chosenRecord = ref<string | null>(null);
const model = computed(() => {
  const chosen = state.models.find((one) => one.id === chosenModel.value);
  return chosen ?? state.models.find((one) => one.chosen) ?? state.models[0] ?? null;
});
const record = computed(() => chosenRecord.value ?? model.value?.record_id ?? null);
const found = shallowRef<Schemas["FoundDisturbances"] | null>(null);
const shown = useTemplateRef("shown");
const isBusy = ref(false);
const problem = ref("");
// What was found belongs to the model and the record that it was found with.
watch([model, record], () => {
  found.value = null;
  problem.value = "";
});

/** The load as points that a small picture can hold. */
const curve = computed(() => {
  const load = found.value?.loads.load ?? [];
  const every = Math.max(1, Math.ceil(load.length / 400));
  return load.filter((_, k) => k % every === 0);
});
const range = computed(() => [Math.min(...curve.value), Math.max(...curve.value)]);

async function look() {
  const trial = trialOfDraft(props.draft);
  if (!model.value || !trial || isBusy.value) return;
  const [model_id, record_id] = [model.value.id, record.value];
  isBusy.value = true;
  problem.value = "";
  try {
    const answer = await answered(
      api.POST("/api/v1/proofs/found", { body: { trial: plain(trial), model_id, record_id } }),
    );
    // Meanwhile another may have been chosen.
    if (model.value.id !== model_id || record.value !== record_id) return;
    found.value = answer;
    await nextTick();
    shown.value?.scrollIntoView({ block: "start" });
  } catch (error) {
    problem.value = messageOf(error);
  } finally {
    isBusy.value = false;
  }
}

const isIn = (one: Disturbance) => props.draft.set.disturbances.some((known) => known.name === one.name);
const left = computed(() => found.value?.disturbances.filter((one) => !isIn(one)) ?? []);
</script>

<template>
  <button
    v-if="!isOpen"
    type="button"
    class="button !py-[2px] text-[12.5px]"
    :disabled="state.records.length === 0"
    :title="state.records.length === 0 ? 'there is no record yet' : ''"
    @click="isOpen = true"
  >
    Look in a record …
  </button>
  <section
    v-else
    class="grid w-full gap-[6px] border-y border-rule py-2"
    aria-label="Disturbances of a record"
  >
    <p class="flex items-baseline text-[12.5px] text-soft">
      <span class="flex-1">What came in where the OP acts, as a record shows it behind a model</span>
      <button type="button" class="hover:text-ink" aria-label="Close" @click="isOpen = false">✕</button>
    </p>
    <p v-if="!model" class="text-caution">△ It takes a model: fit one at Model first.</p>
    <template v-else>
      <label class="grid grid-cols-[64px_minmax(0,1fr)] items-center gap-2">
        <span>Record</span>
        <select
          class="entry min-w-0"
          :value="record"
          @change="chosenRecord = ($event.target as HTMLSelectElement).value"
        >
          <option v-for="one in state.records" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select>
      </label>
      <label class="grid grid-cols-[64px_minmax(0,1fr)] items-center gap-2">
        <span>Model</span>
        <select
          class="entry min-w-0"
          :value="model.id"
          @change="chosenModel = ($event.target as HTMLSelectElement).value"
        >
          <option v-for="one in state.models" :key="one.id" :value="one.id">
            {{ letter(one.number) }}: {{ one.name || one.record_name }}{{ one.chosen ? " (chosen)" : "" }}
          </option>
        </select>
      </label>
      <button
        type="button"
        class="button justify-self-start !py-[2px]"
        :disabled="isBusy || draft.candidates.length === 0"
        @click="look"
      >
        {{ isBusy ? "Looking …" : "Look for disturbances" }}
      </button>
    </template>
    <ProblemNote :text="problem" />
    <template v-if="found">
      <figure ref="shown" class="m-0">
        <ThumbTrend
          :values="curve"
          :label="`Load over ${duration(found.loads.interval * found.loads.load.length)}`"
        />
        <figcaption class="flex justify-between text-[12px] text-soft">
          <span>load {{ number(range[0]) }} to {{ number(range[1]) }} % of OP</span>
          <span>{{ duration(found.loads.interval * found.loads.load.length) }}</span>
        </figcaption>
      </figure>
      <VerdictNote v-for="verdict in found.verdicts" :key="verdict.text" :verdict="verdict" />
      <ul class="border-t border-rule">
        <li v-for="one in found.disturbances" :key="one.name" class="border-b border-rule py-1 last:border-0">
          <strong class="block font-semibold">{{ one.name }}</strong>
          <span class="block text-[12.5px] text-soft">{{ one.reason }}</span>
          <span v-if="isIn(one)" class="text-[12.5px] text-soft">in the set</span>
          <button
            v-else
            type="button"
            class="button !py-0 text-[12.5px]"
            :aria-label="`Take ${one.name} into the set`"
            @click="emit('found', [one])"
          >
            Take it in
          </button>
        </li>
      </ul>
      <button
        v-if="left.length > 1"
        type="button"
        class="button justify-self-start !py-[2px]"
        @click="emit('found', left)"
      >
        Take all {{ plural(left.length, "disturbance") }} in
      </button>
    </template>
  </section>
</template>
