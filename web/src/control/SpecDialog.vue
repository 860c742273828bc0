<script setup lang="ts">
/** A process with several inputs and outputs: a grid of transfer functions, or matrices, with the responses beside it. */
import { computed, ref, watch } from "vue";
import { answered, api, fieldOf, messageOf, type Schemas, type Trial } from "../api/client";
import DialogFrame from "../components/DialogFrame.vue";
import ProblemNote from "../components/ProblemNote.vue";
import XyPlot from "../components/XyPlot.vue";
import { readNumber } from "../lib/format";
import { OVERLAYS } from "../lib/strip";
import MatrixGrid from "./MatrixGrid.vue";
import { coefficientsText, polynomialText, readCoefficients } from "./polynomials";
import { plain } from "../lib/plain";

type Process = Trial["plant"]["process"];
type Transfer = Extract<Process, { structure: "transfer_functions" }>;
type StateSpace = Extract<Process, { structure: "state_space" }>;
type Named = Schemas["NamedValue"];

const props = defineProps<{ open: boolean; process: Process; pvUnit: string }>();
const emit = defineEmits<{ close: []; take: [process: Process] }>();

const draft = ref<Transfer | StateSpace | null>(null);
const problem = ref("");
const field = ref("");
const isReady = ref(false);
const responses = ref<Schemas["StepTable"] | null>(null);
/** What is typed into a cell and cannot be read, by its place. */
const unread = ref<Record<string, string>>({});
let sent = 0;
let timer = 0;

watch(
  () => props.open,
  (open) => {
    if (!open || !["state_space", "transfer_functions"].includes(props.process.structure)) return;
    draft.value = plain(props.process) as Transfer | StateSpace;
    unread.value = {};
  },
  { immediate: true },
);

watch(
  draft,
  () => {
    isReady.value = false;
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void check(), 120);
  },
  { deep: true },
);

async function check() {
  const process = draft.value;
  if (!process) return;
  const ticket = ++sent;
  try {
    const table = await answered(
      api.POST("/api/v1/processes/responses", { body: { process, pv_unit: props.pvUnit } }),
    );
    if (ticket !== sent) return;
    responses.value = table;
    isReady.value = true;
    [problem.value, field.value] = ["", ""];
  } catch (error) {
    if (ticket !== sent) return;
    problem.value = messageOf(error);
    field.value = fieldOf(error);
  }
}

const transfer = computed(() => (draft.value?.structure === "transfer_functions" ? draft.value : null));
const matrices = computed(() => (draft.value?.structure === "state_space" ? draft.value : null));

// --- signals ---

function addSignal(kind: "inputs" | "outputs") {
  const process = draft.value;
  if (!process) return;
  const list = process[kind];
  let count = list.length + 1;
  while (list.some((one) => one.name === `${kind.slice(0, -1)}_${count}`)) count += 1;
  list.push({ name: `${kind.slice(0, -1)}_${count}`, unit: "", value: 0 });
  if (process.structure === "state_space") {
    if (kind === "inputs") {
      process.b.forEach((row) => row.push(0));
      process.d?.forEach((row) => row.push(0));
      if (process.dead_times?.length) process.dead_times.push(0);
    } else {
      process.c.push(process.a.map(() => 0));
      if (process.d?.length) process.d.push(process.inputs.map(() => 0));
    }
  }
}

function removeSignal(kind: "inputs" | "outputs", k: number) {
  const process = draft.value;
  if (!process || process[kind].length < 2) return;
  const [gone] = process[kind].splice(k, 1);
  if (process.structure === "transfer_functions") {
    const key = kind === "inputs" ? "input" : "output";
    process.elements = process.elements.filter((element) => element[key] !== gone?.name);
  } else if (kind === "inputs") {
    process.b.forEach((row) => row.splice(k, 1));
    process.d?.forEach((row) => row.splice(k, 1));
    process.dead_times?.splice(k, 1);
  } else {
    process.c.splice(k, 1);
    process.d?.splice(k, 1);
  }
}

function rename(kind: "inputs" | "outputs", k: number, name: string) {
  const process = draft.value;
  const signal = process?.[kind][k];
  if (!process || !signal) return;
  const before = signal.name;
  signal.name = name.trim();
  if (process.structure === "transfer_functions") {
    const key = kind === "inputs" ? "input" : "output";
    for (const element of process.elements) if (element[key] === before) element[key] = signal.name;
  }
}

function setValue(signal: Named, at: string, text: string) {
  const value = readNumber(text);
  const others = Object.fromEntries(Object.entries(unread.value).filter(([key]) => key !== at));
  unread.value = Number.isFinite(value) ? others : { ...others, [at]: `“${text}” is no number` };
  if (Number.isFinite(value)) signal.value = value;
}

// --- elements ---

const elementAt = (output: string, input: string) =>
  transfer.value?.elements.find((element) => element.output === output && element.input === input) ?? null;
const chosen = ref<[string, string] | null>(null);
const cell = computed(() => (chosen.value ? elementAt(...chosen.value) : null));

function choose(output: string, input: string) {
  chosen.value = [output, input];
}

function addElement() {
  if (!chosen.value || !transfer.value) return;
  const [output, input] = chosen.value;
  transfer.value.elements.push({ output, input, numerator: [1], denominator: [60, 1], dead_time: 0 });
}

function removeElement() {
  if (!transfer.value || !cell.value) return;
  const gone = cell.value;
  transfer.value.elements = transfer.value.elements.filter((element) => element !== gone);
}

function setCoefficients(part: "numerator" | "denominator", text: string) {
  if (!cell.value) return;
  const at = `${chosen.value?.join(" ")} ${part}`;
  const { values, wrong } = readCoefficients(text);
  const others = Object.fromEntries(Object.entries(unread.value).filter(([key]) => key !== at));
  if (wrong !== null || values.length === 0) {
    unread.value = {
      ...others,
      [at]: wrong === null ? "at least one number is needed" : `“${wrong}” is no number`,
    };
    return;
  }
  unread.value = others;
  cell.value[part] = values;
}

function setDeadTime(text: string) {
  if (!cell.value) return;
  const value = readNumber(text);
  const at = `${chosen.value?.join(" ")} dead_time`;
  const others = Object.fromEntries(Object.entries(unread.value).filter(([key]) => key !== at));
  unread.value = Number.isFinite(value) ? others : { ...others, [at]: `“${text}” is no number` };
  if (Number.isFinite(value)) cell.value.dead_time = value;
}

/** What is wrong with an element: what cannot be read, or what the server refuses. */
function faultOf(output: string, input: string): string {
  const own = Object.entries(unread.value).find(([key]) => key.startsWith(`${output} ${input} `));
  if (own) return own[1];
  const index = /^process\.elements\[(\d+)\]/.exec(field.value)?.[1];
  const refused = index === undefined ? null : transfer.value?.elements[Number(index)];
  return refused?.output === output && refused.input === input ? problem.value : "";
}
const isAtCell = computed(() => /^process\.elements\[/.test(field.value));

// --- the responses ---

const lines = computed(() => {
  const table = responses.value;
  if (!table) return [];
  return table.responses.map(({ output, input, values }, k) => ({
    label: table.responses.length > 1 ? `${output} ← ${input}` : output,
    x: table.times,
    y: values,
    ...(OVERLAYS[k % OVERLAYS.length] as (typeof OVERLAYS)[number]),
    colour: k === 0 ? "--pv" : (OVERLAYS[(k - 1) % OVERLAYS.length]?.colour ?? "--pv"),
    dash: k === 0 ? [] : OVERLAYS[(k - 1) % OVERLAYS.length]?.dash,
    width: 1.8,
  }));
});
const isWrong = computed(() => Object.keys(unread.value).length > 0);
</script>

<template>
  <DialogFrame
    :open="open && draft !== null"
    :title="transfer ? 'Transfer functions' : 'State space'"
    :note="
      transfer
        ? 'numerator and denominator with the highest power of s first, times in s'
        : 'x′ = A x + B u(t − θ), y = C x + D u(t − θ), in deviations from rest; rates per second'
    "
    width="980px"
    @close="emit('close')"
  >
    <div v-if="draft" class="mt-3 grid min-h-0 gap-3">
      <div class="grid grid-cols-2 gap-5 max-[800px]:grid-cols-1">
        <fieldset v-for="kind in ['inputs', 'outputs'] as const" :key="kind">
          <legend class="mb-1 flex w-full items-baseline gap-2 font-semibold">
            {{ kind === "inputs" ? "Inputs" : "Outputs" }}
            <button type="button" class="button !px-2 !py-0 text-[12px]" @click="addSignal(kind)">add</button>
          </legend>
          <div v-for="(signal, k) in draft[kind]" :key="k" class="mb-1 flex items-center gap-1">
            <input
              class="entry min-w-0 flex-1 font-mono"
              :value="signal.name"
              :aria-label="`Name of ${kind.slice(0, -1)} ${k + 1}`"
              @change="rename(kind, k, ($event.target as HTMLInputElement).value)"
            />
            <span class="text-[12px] text-soft">rests at</span>
            <input
              class="entry w-[70px] text-right"
              inputmode="decimal"
              :value="signal.value"
              :aria-label="`Rest of ${signal.name}`"
              :aria-invalid="`${kind} ${k}` in unread"
              @change="setValue(signal, `${kind} ${k}`, ($event.target as HTMLInputElement).value)"
            />
            <input
              v-model="signal.unit"
              class="entry w-[64px]"
              placeholder="unit"
              :aria-label="`Unit of ${signal.name}`"
            />
            <button
              type="button"
              class="px-1 text-soft hover:text-limit"
              :disabled="draft[kind].length < 2"
              :aria-label="`Remove ${signal.name}`"
              @click="removeSignal(kind, k)"
            >
              ×
            </button>
          </div>
        </fieldset>
      </div>
      <div class="grid min-h-0 grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)] gap-4 max-[800px]:grid-cols-1">
        <div
          v-if="transfer"
          class="min-w-0 overflow-x-auto"
          tabindex="0"
          role="region"
          aria-label="Matrix of transfer functions"
        >
          <table class="w-full border-collapse text-[13px]" aria-label="Transfer functions">
            <thead>
              <tr>
                <th class="p-1 text-left font-normal text-soft">output ← input</th>
                <th
                  v-for="input in transfer.inputs"
                  :key="input.name"
                  class="p-1 text-left font-semibold"
                  scope="col"
                >
                  {{ input.name }}
                </th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="output in transfer.outputs" :key="output.name" class="border-t border-rule">
                <th class="p-1 text-left font-semibold" scope="row">{{ output.name }}</th>
                <td v-for="input in transfer.inputs" :key="input.name" class="p-1">
                  <button
                    type="button"
                    class="w-full rounded-[4px] border px-2 py-1 text-center whitespace-nowrap"
                    :class="[
                      faultOf(output.name, input.name) ? 'border-limit' : 'border-rule',
                      chosen?.[0] === output.name && chosen[1] === input.name ? 'bg-wash' : 'bg-raised',
                    ]"
                    :aria-label="`From ${input.name} to ${output.name}`"
                    @click="choose(output.name, input.name)"
                  >
                    <template v-if="elementAt(output.name, input.name)">
                      <span class="block border-b border-ink/60 px-1">
                        {{ polynomialText(elementAt(output.name, input.name)?.numerator ?? []) }}
                      </span>
                      <span class="block px-1">
                        {{ polynomialText(elementAt(output.name, input.name)?.denominator ?? []) }}
                      </span>
                      <span
                        v-if="elementAt(output.name, input.name)?.dead_time"
                        class="text-[12px] text-soft"
                      >
                        dead time {{ elementAt(output.name, input.name)?.dead_time }} s
                      </span>
                    </template>
                    <span v-else class="text-soft">0</span>
                  </button>
                </td>
              </tr>
            </tbody>
          </table>
          <div v-if="chosen" class="mt-2 grid gap-2 border-l-[3px] border-rule pl-3">
            <p class="font-semibold">{{ chosen[1] }} → {{ chosen[0] }}</p>
            <template v-if="cell">
              <label
                v-for="part in ['numerator', 'denominator'] as const"
                :key="part"
                class="grid grid-cols-[110px_1fr] items-center gap-2"
              >
                {{ part === "numerator" ? "Numerator" : "Denominator" }}
                <input
                  class="entry font-mono"
                  :value="coefficientsText(cell[part])"
                  :aria-label="part === 'numerator' ? 'Numerator' : 'Denominator'"
                  @change="setCoefficients(part, ($event.target as HTMLInputElement).value)"
                />
              </label>
              <label class="grid grid-cols-[110px_90px_1fr] items-center gap-2">
                Dead time
                <input
                  class="entry text-right"
                  inputmode="decimal"
                  aria-label="Dead time of the element"
                  :value="cell.dead_time ?? 0"
                  @change="setDeadTime(($event.target as HTMLInputElement).value)"
                />
                <span class="text-soft">s</span>
              </label>
              <button type="button" class="button justify-self-start" @click="removeElement">
                Make it 0
              </button>
            </template>
            <button v-else type="button" class="button justify-self-start" @click="addElement">
              Put a transfer function here
            </button>
            <p v-if="faultOf(chosen[0], chosen[1])" class="text-[12.5px] text-limit" role="alert">
              {{ faultOf(chosen[0], chosen[1]) }}
            </p>
          </div>
        </div>
        <MatrixGrid
          v-else-if="matrices"
          v-model="matrices"
          :field="field"
          :problem="problem"
          @unread="unread = $event"
        />
        <div class="h-[300px] min-w-0">
          <XyPlot
            v-if="lines.length"
            title="Step responses"
            :lines="lines"
            x-title="time, s"
            y-title="output per unit of input"
          />
        </div>
      </div>
      <ProblemNote v-if="!isAtCell && !field.startsWith('process.a')" :text="problem" />
      <div class="flex items-center gap-3">
        <button
          type="button"
          class="button button-main"
          :disabled="!isReady || isWrong"
          @click="draft && emit('take', draft)"
        >
          Take this process
        </button>
        <button type="button" class="button" @click="emit('close')">Cancel</button>
        <span v-if="isWrong" class="text-limit">One of the entries is not a number.</span>
      </div>
    </div>
  </DialogFrame>
</template>
