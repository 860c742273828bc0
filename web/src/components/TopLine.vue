<script setup lang="ts">
import { computed } from "vue";
import type { LocationQuery } from "vue-router";
import { evidenceOf, firstTrial } from "../handover/handover";
import { duration, letter, number, plural } from "../lib/format";
import type { LoopState } from "../lib/loop";
import { shortName } from "../lib/structures";
import { best } from "../prove/proof";
import { nextTheme, theme } from "../lib/theme";
import FindAnything from "./FindAnything.vue";

const props = defineProps<{ loop?: LoopState; places?: Record<string, LocationQuery> }>();
const emit = defineEmits<{ edit: [] }>();

/** What is selected at a step, where something is. */
const selectedAt = (step: string, name: string) => props.places?.[step]?.[name];

/** How the best candidate of the proof at hand does. */
const proven = computed(() => {
  const proofs = props.loop?.proofs ?? [];
  const wanted = selectedAt("prove", "proof");
  const proof = proofs.find((one) => one.id === wanted) ?? proofs[0];
  if (!proof) return "not yet";
  const first = best(proof.result);
  return first ? `${first.name}, ${first.text}` : "no limit";
});

/** Which candidate is handed over, and whether a proof stands behind it. */
const handedOver = computed(() => {
  const wanted = selectedAt("hand-over", "trial");
  const row = props.loop && (props.loop.trials.find((one) => one.id === wanted) ?? firstTrial(props.loop));
  if (!props.loop || !row) return "not yet";
  const evidence = evidenceOf(props.loop, row);
  return `${letter(row.number)}, ${evidence ? `proof ${evidence.number}` : "not proven"}`;
});

const steps = computed(() => {
  const loop = props.loop;
  if (!loop) return [];
  const wanted = selectedAt("measure", "record");
  const record = loop.records.find((one) => one.id === wanted) ?? loop.records[0];
  const model = loop.models.find((candidate) => candidate.chosen);
  const fit = model?.validation?.performance.fit_simulated ?? model?.model.estimation.fit_simulated;
  return [
    { name: "measure", title: "Measure", state: record ? duration(record.duration) : "no record" },
    {
      name: "model",
      title: "Model",
      state: model
        ? `${shortName(model.model.structure)} ${number(fit)} %`
        : loop.models.length
          ? "none chosen"
          : "not yet",
    },
    {
      name: "control",
      title: "Control",
      state: loop.trials.length ? plural(loop.trials.length, "trial") : "not yet",
    },
    { name: "prove", title: "Prove", state: proven.value },
    { name: "hand-over", title: "Hand over", state: handedOver.value },
  ];
});
const themeName = { system: "as the system", light: "day", dark: "night" };
</script>

<template>
  <header
    class="flex min-h-[46px] shrink-0 items-stretch gap-x-4 border-b border-ink px-4 max-[900px]:flex-wrap max-[900px]:gap-x-2 max-[900px]:px-2"
  >
    <RouterLink to="/" class="flex items-center gap-2 font-semibold" aria-label="Antistasis, all loops">
      <img src="/mark.svg" width="20" height="20" alt="" />
      <span class="max-[1100px]:sr-only">Antistasis</span>
    </RouterLink>
    <nav v-if="loop?.detail" class="flex min-w-0 items-center gap-2 text-soft" aria-label="Where you are">
      <RouterLink to="/" class="truncate hover:text-ink">{{ loop.detail.area }}</RouterLink>
      <span aria-hidden="true">›</span>
      <strong class="whitespace-nowrap text-ink">{{ loop.tag }}</strong>
      <span class="truncate max-[1100px]:hidden">{{ loop.detail.name }}</span>
      <button
        type="button"
        class="px-1 text-soft hover:text-ink print:hidden"
        :aria-label="`Edit ${loop.tag}: tags, name, spans, notes`"
        title="Tags, name, area, spans, notes"
        @click="emit('edit')"
      >
        ✎
      </button>
    </nav>
    <nav v-if="steps.length" class="ml-auto flex print:hidden" aria-label="Steps">
      <RouterLink
        v-for="(step, index) in steps"
        :key="step.name"
        :to="{ name: step.name, params: { tag: loop?.tag }, query: places?.[step.name] ?? {} }"
        class="flex flex-col justify-center border-b-[3px] border-transparent px-3 pt-[3px] whitespace-nowrap hover:bg-wash"
        active-class="!border-pv font-semibold"
        :title="`${step.title} (${index + 1})`"
      >
        <span>{{ step.title }}</span>
        <span class="text-[11.5px] font-normal text-soft">{{ step.state }}</span>
      </RouterLink>
    </nav>
    <div class="flex items-center gap-2 print:hidden" :class="steps.length ? '' : 'ml-auto'">
      <FindAnything />
      <button type="button" class="button !px-2" :title="`Colours: ${themeName[theme]}`" @click="nextTheme">
        <svg width="15" height="15" viewBox="0 0 16 16" aria-hidden="true">
          <circle cx="8" cy="8" r="6.5" fill="none" stroke="currentColor" stroke-width="1.5" />
          <path d="M8 1.5a6.500 6.500 0 0 1 0 13z" fill="currentColor" />
        </svg>
        <span class="sr-only">Colours: {{ themeName[theme] }}</span>
      </button>
    </div>
  </header>
</template>
