<script setup lang="ts">
/** Equations of one's own, checked as they are typed: what is wrong stands under the entry that it is about. */
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { ref, watch } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import EquationRows from "./EquationRows.vue";

type Equations = Schemas["EquationsSpec"];

const props = defineProps<{ open: boolean; equations: Equations }>();
const emit = defineEmits<{ close: []; take: [equations: Equations] }>();

const draft = ref(copy(props.equations));
const faults = ref<Schemas["Fault"][]>([]);
const failure = ref("");
const checking = ref(false);
let sent = 0;
let timer = 0;

function copy(equations: Equations): Required<Equations> {
  const { title, states, inputs, parameters, definitions, rates, outputs } = JSON.parse(
    JSON.stringify(equations),
  ) as Equations;
  return {
    title: title ?? "",
    states,
    inputs,
    parameters: parameters ?? [],
    definitions: definitions ?? [],
    rates,
    outputs,
  };
}

watch(
  () => props.open,
  (open) => {
    if (open) draft.value = copy(props.equations);
  },
);

watch(
  draft,
  () => {
    checking.value = true;
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void check(), 120);
  },
  { deep: true, immediate: true },
);

async function check() {
  const ticket = ++sent;
  try {
    const found = await answered(api.POST("/api/v1/processes/check", { body: draft.value }));
    if (ticket !== sent) return;
    faults.value = found;
    failure.value = "";
  } catch (error) {
    if (ticket === sent) failure.value = messageOf(error);
  } finally {
    if (ticket === sent) checking.value = false;
  }
}

function at(place: string): string[] {
  const prefix = `process.${place}`;
  return faults.value
    .filter((fault) => fault.field === prefix || fault.field?.startsWith(`${prefix}.`))
    .map((fault) => fault.message.replace(/^process\.\S+ is /, ""));
}

/** What is about no row: a list that is empty, a count that does not fit. */
function elsewhere(): string[] {
  return faults.value.filter((fault) => !fault.field?.includes("[")).map((fault) => fault.message);
}

type NamedPart = "states" | "inputs" | "parameters";
const named: [NamedPart, string, string][] = [
  ["states", "States", "value at the start"],
  ["inputs", "Inputs", "value at rest"],
  ["parameters", "Parameters", "value"],
];

function addNamed(part: NamedPart) {
  const list = draft.value[part] ?? [];
  list.push({ name: "", unit: "", value: 0 });
  draft.value[part] = list;
}

function removeNamed(part: NamedPart, index: number) {
  draft.value[part]?.splice(index, 1);
}
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel
        class="flex max-h-full w-[860px] flex-col gap-3 rounded-lg border border-rule bg-paper p-5 shadow-xl"
      >
        <DialogTitle class="heading">Equations of your own</DialogTitle>
        <p class="text-soft">
          + − * / ^ and brackets; sqrt, exp, ln, log10, sin, cos, tanh, abs, min(a, b), max(a, b), PI. Time is
          in seconds: rates are per second.
        </p>
        <div class="min-h-0 flex-1 overflow-auto border-y border-rule py-2">
          <label class="mb-2 grid grid-cols-[110px_1fr] items-center gap-2">
            Title <input v-model="draft.title" class="entry" maxlength="120" />
          </label>
          <section v-for="[part, title, meaning] in named" :key="part" class="mb-3">
            <h3 class="mb-1 flex items-baseline gap-2 font-semibold">
              {{ title }}
              <button type="button" class="button !px-2 !py-0 text-[12px]" @click="addNamed(part)">
                add
              </button>
            </h3>
            <div
              v-for="(row, index) in draft[part]"
              :key="index"
              class="mb-1 grid grid-cols-[150px_20px_110px_20px_110px_1fr_auto] items-center gap-1"
            >
              <input
                v-model="row.name"
                class="entry font-mono"
                :aria-label="`Name in ${title}`"
                placeholder="name"
              />
              <span class="text-center text-soft">in</span>
              <input
                v-model="row.unit"
                class="entry"
                :aria-label="`Unit of ${row.name}`"
                placeholder="unit"
              />
              <span class="text-center text-soft">=</span>
              <input
                v-model.number="row.value"
                class="entry text-right"
                inputmode="decimal"
                :aria-label="`Value of ${row.name}`"
              />
              <span class="text-[12px] text-soft">{{ meaning }}</span>
              <button
                type="button"
                class="px-1 text-soft hover:text-limit"
                :aria-label="`Remove ${row.name}`"
                @click="removeNamed(part, index)"
              >
                ×
              </button>
              <span
                v-for="text in at(`${part}[${index}]`)"
                :key="text"
                class="col-span-7 text-[12.5px] text-limit"
                >{{ text }}</span
              >
            </div>
          </section>
          <EquationRows
            v-model="draft.definitions"
            title="Definitions"
            :around="['', '=']"
            :faults="(index) => at(`definitions[${index}]`)"
          />
          <EquationRows
            v-model="draft.rates"
            title="Rates"
            :around="['d', '/dt =']"
            :faults="(index) => at(`rates[${index}]`)"
          />
          <EquationRows
            v-model="draft.outputs"
            title="Outputs"
            :around="['', '=']"
            with-unit
            :faults="(index) => at(`outputs[${index}]`)"
          />
        </div>
        <p
          v-for="text in elsewhere()"
          :key="text"
          class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3"
          role="alert"
        >
          {{ text }}
        </p>
        <p v-if="failure" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ failure }}
        </p>
        <div class="flex items-center gap-3">
          <button
            type="button"
            class="button button-main"
            :disabled="checking || faults.length > 0 || failure !== ''"
            @click="emit('take', copy(draft))"
          >
            Take these equations
          </button>
          <button type="button" class="button" @click="emit('close')">Cancel</button>
          <span v-if="!checking && faults.length === 0 && !failure" class="text-pv">
            {{ draft.states.length }} states, {{ draft.rates.length }} rates: they can be simulated
          </span>
          <span v-else-if="faults.length" class="text-limit">{{ faults.length }} to be mended</span>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
