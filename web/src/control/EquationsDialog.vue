<script setup lang="ts">
/** Equations of one's own, as text or in fields, checked as they are typed: what is wrong stands where it is. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import DialogFrame from "../components/DialogFrame.vue";
import ProblemNote from "../components/ProblemNote.vue";
import ViewTabs from "../components/ViewTabs.vue";
import { plural, readNumber } from "../lib/format";
import { useKept } from "../lib/kept";
import EquationRows from "./EquationRows.vue";

type Equations = Schemas["EquationsSpec"];

const props = defineProps<{ open: boolean; equations: Equations }>();
const emit = defineEmits<{ close: []; take: [equations: Equations] }>();

const FORMS = [
  { key: "text", title: "As text" },
  { key: "fields", title: "In fields" },
];
const form = useKept("form of equations", () => "text");
const draft = ref(copy(props.equations));
const text = ref("");
const faults = ref<Schemas["Fault"][]>([]);
const textFaults = ref<Schemas["TextFault"][]>([]);
/** What is typed as a number and is none, by its place. */
const unread = ref<Record<string, string>>({});
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
  async (open) => {
    if (!open) return;
    draft.value = copy(props.equations);
    unread.value = {};
    await write();
  },
);

/** The equations as text. */
async function write() {
  try {
    text.value = (await answered(api.POST("/api/v1/processes/write", { body: draft.value }))).text;
    failure.value = "";
  } catch (error) {
    failure.value = messageOf(error);
  }
}

async function choose(next: string) {
  if (next === form.value) return;
  if (next === "text") await write();
  form.value = next;
  again();
}

function again() {
  checking.value = true;
  window.clearTimeout(timer);
  timer = window.setTimeout(() => void check(), 120);
}
watch([draft, text], again, { deep: true, immediate: true });

async function check() {
  const ticket = ++sent;
  try {
    if (form.value === "text") {
      const found = await answered(api.POST("/api/v1/processes/read", { body: { text: text.value } }));
      if (ticket !== sent) return;
      textFaults.value = found.faults;
      draft.value = copy(found.equations);
      faults.value = [];
      // The draft that was just read needs no other look.
      sent += 1;
      window.clearTimeout(timer);
    } else {
      const found = await answered(api.POST("/api/v1/processes/check", { body: draft.value }));
      if (ticket !== sent) return;
      faults.value = found;
      textFaults.value = [];
    }
    failure.value = "";
  } catch (error) {
    failure.value = messageOf(error);
  } finally {
    checking.value = false;
  }
}

function at(place: string): string[] {
  const prefix = `process.${place}`;
  const own = Object.entries(unread.value)
    .filter(([key]) => key.startsWith(place))
    .map(([, words]) => words);
  return [
    ...own,
    ...faults.value
      .filter((fault) => fault.field === prefix || fault.field?.startsWith(`${prefix}.`))
      .map((fault) => fault.message),
  ];
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
  draft.value[part].push({ name: "", unit: "", value: 0 });
}

function removeNamed(part: NamedPart, index: number) {
  draft.value[part].splice(index, 1);
}

/** A number that is typed; one that is none stays at its entry and is told. */
function setNumber(part: NamedPart, index: number, key: "value" | "low" | "high", typed: string) {
  const row = draft.value[part][index];
  if (!row) return;
  const place = `${part}[${index}].${key}`;
  const others = Object.fromEntries(Object.entries(unread.value).filter(([known]) => known !== place));
  const isEmpty = typed.trim() === "" && key !== "value";
  const value = isEmpty ? null : readNumber(typed);
  if (value !== null && !Number.isFinite(value)) {
    unread.value = { ...others, [place]: `“${typed}” is no number.` };
    return;
  }
  unread.value = others;
  if (key === "value") row.value = value ?? 0;
  else if (value === null) Reflect.deleteProperty(row, key);
  else row[key] = value;
}

const lines = computed(() => text.value.split("\n"));
const count = computed(
  () => faults.value.length + textFaults.value.length + Object.keys(unread.value).length,
);
</script>

<template>
  <DialogFrame
    :open="open"
    title="Equations of your own"
    note="+ − * / ^ and brackets; sqrt, exp, ln, log10, sin, cos, tanh, abs, min(a, b), max(a, b), PI; rates per second"
    width="880px"
    @close="emit('close')"
  >
    <div class="mt-2 flex min-h-0 flex-1 flex-col gap-3">
      <ViewTabs
        :model-value="form"
        :views="FORMS"
        label="How the equations are written"
        @update:model-value="choose"
      />
      <template v-if="form === 'text'">
        <p class="text-[12.5px] text-soft">
          A line each: <code>state level = 2 m (0 to 4)</code>, <code>input inflow = 30 m³/h</code>,
          <code>parameter area = 3 m² (0.1 to 100)</code>, <code>outflow = k * sqrt(level)</code>,
          <code>dlevel/dt = (inflow - outflow) / area</code>, <code>output height [m] = level</code>.
        </p>
        <textarea
          v-model="text"
          class="entry min-h-[260px] w-full flex-1 font-mono text-[13px] leading-[1.5]"
          spellcheck="false"
          aria-label="Equations as text"
          @keydown.stop
        />
        <ul v-if="textFaults.length" class="text-[12.5px] text-limit" role="alert">
          <li v-for="fault in textFaults" :key="`${fault.line} ${fault.message}`">
            Line {{ fault.line }} <code class="text-soft">{{ lines[fault.line - 1]?.trim() }}</code>:
            {{ fault.message }}
          </li>
        </ul>
      </template>
      <div
        v-else
        class="min-h-0 flex-1 overflow-auto border-y border-rule py-2"
        tabindex="0"
        role="region"
        aria-label="Equations in fields"
      >
        <label class="mb-2 grid grid-cols-[110px_1fr] items-center gap-2">
          Title <input v-model="draft.title" class="entry" maxlength="120" />
        </label>
        <section v-for="[part, title, meaning] in named" :key="part" class="mb-3">
          <h3 class="mb-1 flex items-baseline gap-2 font-semibold">
            {{ title }}
            <button type="button" class="button !px-2 !py-0 text-[12px]" @click="addNamed(part)">add</button>
          </h3>
          <div
            v-for="(row, index) in draft[part]"
            :key="index"
            class="mb-1 flex flex-wrap items-center gap-1"
          >
            <input
              v-model="row.name"
              class="entry w-[150px] font-mono"
              :aria-label="`Name in ${title}`"
              placeholder="name"
            />
            <span class="text-soft">in</span>
            <input
              v-model="row.unit"
              class="entry w-[80px]"
              :aria-label="`Unit of ${row.name}`"
              placeholder="unit"
            />
            <span class="text-soft">=</span>
            <input
              class="entry w-[90px] text-right"
              inputmode="decimal"
              :value="row.value"
              :title="meaning"
              :aria-label="`Value of ${row.name}`"
              @change="setNumber(part, index, 'value', ($event.target as HTMLInputElement).value)"
            />
            <template v-if="part !== 'inputs'">
              <span class="text-[12px] text-soft">from</span>
              <input
                v-for="end in ['low', 'high'] as const"
                :key="end"
                class="entry w-[76px] text-right"
                inputmode="decimal"
                :placeholder="end === 'low' ? 'any' : 'to any'"
                :value="row[end] ?? ''"
                :aria-label="`${end === 'low' ? 'Lowest' : 'Highest'} ${row.name}`"
                @change="setNumber(part, index, end, ($event.target as HTMLInputElement).value)"
              />
            </template>
            <button
              type="button"
              class="px-1 text-soft hover:text-limit"
              :aria-label="`Remove ${row.name}`"
              @click="removeNamed(part, index)"
            >
              ×
            </button>
            <span
              v-for="words in at(`${part}[${index}]`)"
              :key="words"
              class="w-full text-[12.5px] text-limit"
              >{{ words }}</span
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
      <ProblemNote v-for="words in elsewhere()" :key="words" :text="words" />
      <ProblemNote :text="failure" />
      <div class="flex items-center gap-3">
        <button
          type="button"
          class="button button-main"
          :disabled="checking || count > 0 || failure !== ''"
          @click="emit('take', copy(draft))"
        >
          Take these equations
        </button>
        <button type="button" class="button" @click="emit('close')">Cancel</button>
        <span v-if="!checking && count === 0 && !failure" class="text-pv">
          {{ plural(draft.states.length, "state") }}, {{ plural(draft.rates.length, "rate") }}: they can be
          simulated
        </span>
        <span v-else-if="count > 0" class="text-limit">{{ count }} to be mended</span>
      </div>
    </div>
  </DialogFrame>
</template>
