<script setup lang="ts">
/** How loops on the plant act on each other: relative gains with the pairing that follows, singular values, zeros. */
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, fieldOf, messageOf, type Schemas, type Trial } from "../api/client";
import NumberField from "../components/NumberField.vue";
import ProblemNote from "../components/ProblemNote.vue";
import StateNotice from "../components/StateNotice.vue";
import VerdictNote from "../components/VerdictNote.vue";
import XyPlot from "../components/XyPlot.vue";
import { number } from "../lib/format";
import { tell } from "../lib/notes";
import { useKept } from "../lib/kept";
import { comebacks } from "../lib/live";
import type { Line } from "../lib/xy";
import { readable } from "./events";
import { LARGEST, STYLES, isPaired, smoothed } from "./interaction";

const props = defineProps<{
  plant: Trial["plant"];
  description: Schemas["Description"] | null;
  loopTag: string;
}>();

const emit = defineEmits<{ take: [trial: Trial, name: string] }>();

const answer = shallowRef<Schemas["InteractionAnswer"] | null>(null);
const problem = ref("");
const field = ref("");
/** What was chosen other than usual. */
const chosen = useKept<Schemas["InteractionQuestion"] | null>(`interaction of ${props.loopTag}`, () => null);
/** The choice as far as the process at hand has such signals; that of another process waits for it. */
const asked = computed(() => {
  const has = (list: { name: string }[] | undefined, name: string) =>
    list?.some((known) => known.name === name) ?? false;
  const question = chosen.value;
  const fits =
    question?.outputs.every((one) => has(props.description?.outputs, one.output)) &&
    question.inputs.every((one) => has(props.description?.inputs, one.input));
  return fits ? question : null;
});

let sent = 0;
let timer = 0;
async function ask() {
  const ticket = ++sent;
  try {
    const body = { plant: props.plant, question: asked.value };
    const found = await answered(api.POST("/api/v1/plants/interaction", { body }));
    if (ticket !== sent) return;
    answer.value = found;
    [problem.value, field.value] = ["", ""];
  } catch (error) {
    if (ticket !== sent) return;
    [problem.value, field.value] = [messageOf(error), fieldOf(error)];
  }
}
watch(
  [() => JSON.stringify(props.plant), () => JSON.stringify(asked.value), comebacks],
  () => {
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void ask(), answer.value ? 200 : 0);
  },
  { immediate: true },
);

const question = computed(() => asked.value ?? answer.value?.question ?? null);
const found = computed(() => answer.value?.interaction ?? null);
const best = computed(() => found.value?.pairings[0] ?? null);

/** A copy of the question with one thing changed. */
function change(how: (question: Schemas["InteractionQuestion"]) => void) {
  if (!question.value) return;
  const next = JSON.parse(JSON.stringify(question.value)) as Schemas["InteractionQuestion"];
  how(next);
  chosen.value = next;
}

const offers = computed(() => answer.value?.offers ?? null);

function chooseOutput(k: number, name: string) {
  const offer = offers.value?.outputs.find((known) => known.output === name);
  if (offer) change((next) => (next.outputs[k] = offer));
}

function chooseInput(k: number, name: string) {
  const offer = offers.value?.inputs.find((known) => known.input === name);
  if (offer) change((next) => (next.inputs[k] = offer));
}

/** Another pair of signals: the first ones that are not asked for yet. */
const spare = computed(() => {
  const now = question.value;
  if (!now || !offers.value || now.outputs.length >= offers.value.most_pairs) return null;
  const output = offers.value.outputs.find((one) => !now.outputs.some((used) => used.output === one.output));
  const input = offers.value.inputs.find((one) => !now.inputs.some((used) => used.input === one.input));
  return output && input ? { output, input } : null;
});
function morePairs() {
  const pair = spare.value;
  if (!pair) return;
  change((next) => {
    next.outputs.push(pair.output);
    next.inputs.push(pair.input);
  });
}
function fewerPairs() {
  change((next) => {
    next.outputs.pop();
    next.inputs.pop();
  });
}

// --- a trial of loops on one of the pairings ---

const decoupler = useKept<Schemas["Decoupler"]>(`decoupler of ${props.loopTag}`, () => "none");
const DECOUPLERS: { value: Schemas["Decoupler"]; title: string }[] = [
  { value: "none", title: "without decoupler" },
  { value: "static", title: "with static decouplers" },
  { value: "dynamic", title: "with dynamic decouplers" },
];
const method = useKept<Schemas["LoopsMethod"]>(
  `loops of ${props.loopTag} tuned`,
  () => "largest_log_modulus",
);
const METHODS: { value: Schemas["LoopsMethod"]; title: string; hint: string }[] = [
  {
    value: "largest_log_modulus",
    title: "largest log modulus",
    hint: "All detuned by one factor, until the largest log modulus is 2 dB a loop",
  },
  {
    value: "maximum_sensitivity",
    title: "maximum sensitivity 2",
    hint: "All detuned by one factor, until the largest singular value of S is 2",
  },
  {
    value: "one_by_one",
    title: "one after the other",
    hint: "The quickest first, each by Tyreus and Luyben with those before it closed",
  },
];
const untuned = ref("");
async function control(pairing: Schemas["Pairing"]) {
  const now = question.value;
  if (!now) return;
  untuned.value = "";
  const inputs = now.outputs.flatMap((one) => {
    const pair = pairing.pairs.find((known) => known.output === one.output);
    return now.inputs.filter((known) => known.input === pair?.input);
  });
  try {
    const body = {
      plant: props.plant,
      pairs: { outputs: now.outputs, inputs },
      decoupler: decoupler.value,
      method: method.value,
    };
    const found = await answered(api.POST("/api/v1/plants/loops", { body }));
    for (const remark of found.remarks) tell(remark);
    const kind = [
      METHODS.find((known) => known.value === method.value)?.title,
      DECOUPLERS.find((known) => known.value === decoupler.value)?.title,
    ].join(", ");
    const pairs = pairing.pairs.map((pair) => `${readable(pair.output)} by ${readable(pair.input)}`);
    emit("take", found.trial, `${pairs.join(", ")}, ${kind}`);
  } catch (error) {
    untuned.value = messageOf(error);
  }
}

const unitOfInput = (name: string) =>
  props.description?.inputs.find((known) => known.name === name)?.unit ?? "";
const problemAt = (place: string) => (field.value.startsWith(place) ? problem.value : "");
const isAtAField = computed(() => /^(outputs|inputs)\[/.test(field.value));

const omega = computed(() => found.value?.curves.omega ?? []);
const sizes = computed<Line[]>(() =>
  (found.value?.curves.singular_values ?? []).map((y, k, all) => ({
    x: omega.value,
    y,
    colour: k === 0 ? "--pv" : "--op",
    dash: STYLES[k],
    width: 2,
    label: k === 0 ? "largest" : k === all.length - 1 ? "smallest" : `${k + 1}.`,
  })),
);
/** From 0, so that what is small looks small, to above 1, where loops do not feel each other. */
const reach = computed<[number, number]>(() => {
  const all = (found.value?.curves.relative_gains ?? []).flat(2).filter((value) => value <= LARGEST);
  return [0, 1.15 * Math.max(1, ...all)];
});
const relative = computed<Line[]>(() => {
  const curves = found.value?.curves.relative_gains ?? [];
  const { outputs = [], inputs = [] } = found.value ?? {};
  return curves.flatMap((row, i) =>
    row.map((y, j) => {
      const paired = isPaired(best.value, outputs[i] ?? "", inputs[j] ?? "");
      return {
        x: omega.value,
        y: smoothed(y),
        colour: paired ? "--pv" : "--soft",
        dash: STYLES[i],
        width: paired ? 2.2 : 1.2,
        label: paired ? `λ${i + 1}${j + 1}` : undefined,
      };
    }),
  );
});
</script>

<template>
  <StateNotice v-if="problem && !answer" kind="failed" title="No interaction can be shown" :retry="ask">{{
    problem
  }}</StateNotice>
  <StateNotice v-else-if="!found || !question" kind="loading" title="The plant is being analysed" />
  <div v-else class="flex h-full min-h-0 flex-col gap-2 overflow-y-auto pr-3 pb-2">
    <div v-if="found.relative_gains" class="grid min-h-[210px] flex-1 grid-cols-2 gap-2">
      <XyPlot
        :lines="relative"
        title="Relative gains over frequency, the recommended pairs drawn strong"
        x-title="rad/s"
        y-title="|λ|"
        :y-range="reach"
        log-x
      />
      <XyPlot :lines="sizes" title="Singular values of the plant" x-title="rad/s" y-title="%/%" log-x log-y />
    </div>
    <div v-if="found.relative_gains" class="grid shrink-0 grid-cols-[auto_1fr] gap-x-6 gap-y-2">
      <div tabindex="0" role="region" aria-label="Relative gains at rest" class="overflow-x-auto">
        <h3 class="font-semibold">Relative gains at rest</h3>
        <table class="border-collapse text-[13px]">
          <thead class="text-soft">
            <tr>
              <th class="px-2 text-left font-normal">output ↓ input →</th>
              <th v-for="input in found.inputs" :key="input" class="px-2 text-right font-normal">
                {{ readable(input) }}
              </th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(row, i) in found.relative_gains" :key="i" class="border-t border-rule">
              <th class="px-2 text-left font-normal whitespace-nowrap">
                {{ readable(found.outputs[i] ?? "") }}
              </th>
              <td
                v-for="(value, j) in row"
                :key="j"
                class="px-2 py-[2px] text-right whitespace-nowrap"
                :class="
                  isPaired(best, found.outputs[i] ?? '', found.inputs[j] ?? '')
                    ? 'border-2 border-pv font-semibold'
                    : ''
                "
              >
                {{ number(value, 3) }}
                <span v-if="found.gains" class="block text-[12px] font-normal text-soft">
                  gain {{ number(found.gains[i]?.[j], 3) }} %/%
                </span>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="found.condition_number != null" class="text-[12.5px] text-soft">
          condition number {{ number(found.condition_number, 3) }}
        </p>
      </div>
      <div tabindex="0" role="region" aria-label="Pairings" class="max-h-[220px] overflow-auto">
        <h3 class="flex items-baseline justify-between gap-2 font-semibold">
          Pairings
          <span class="flex gap-1">
            <select v-model="method" class="entry font-normal" aria-label="How the loops are tuned">
              <option v-for="one in METHODS" :key="one.value" :value="one.value" :title="one.hint">
                {{ one.title }}
              </option>
            </select>
            <select v-model="decoupler" class="entry font-normal" aria-label="Decoupler of the trial">
              <option v-for="one in DECOUPLERS" :key="one.value" :value="one.value">{{ one.title }}</option>
            </select>
          </span>
        </h3>
        <ProblemNote :text="untuned" />
        <table class="w-full border-collapse text-[13px]">
          <thead class="text-soft">
            <tr>
              <th class="px-2 text-left font-normal">output with input</th>
              <th class="px-2 text-right font-normal">Niederlinski<br />index</th>
              <th class="px-2 text-left font-normal">what it does</th>
              <th><span class="sr-only">a trial of it</span></th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="(pairing, k) in found.pairings.slice(0, 24)"
              :key="k"
              class="border-t border-rule align-top"
            >
              <td class="px-2 whitespace-nowrap" :class="k === 0 ? 'font-semibold' : ''">
                <span v-for="pair in pairing.pairs" :key="pair.output" class="block">
                  {{ readable(pair.output) }} – {{ readable(pair.input) }}
                </span>
              </td>
              <td class="px-2 text-right">{{ number(pairing.niederlinski_index, 3) || "–" }}</td>
              <td class="px-2" :class="pairing.tone === 'bad' ? 'text-soft' : ''">
                <span v-if="pairing.tone === 'bad'" class="font-semibold text-caution">△ </span
                >{{ pairing.text }}
              </td>
              <td class="px-2 text-right">
                <button
                  type="button"
                  class="button !py-0 whitespace-nowrap"
                  :aria-label="`Control these: ${pairing.pairs.map((pair) => `${readable(pair.output)} by ${readable(pair.input)}`).join(', ')}`"
                  @click="control(pairing)"
                >
                  Control these
                </button>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </div>
    <VerdictNote v-for="verdict in found.verdicts" :key="verdict.text" :verdict="verdict" />
    <p v-if="found.zeros.length" class="text-[12.5px] text-soft">
      Zeros between these signals, in 1/s:
      <span v-for="(zero, k) in found.zeros.slice(0, 8)" :key="k" class="mr-3 whitespace-nowrap text-ink">
        {{ number(zero.real, 3) }}{{ zero.imaginary ? ` ± ${number(zero.imaginary, 3)}j` : "" }}
        <span class="text-soft"
          >felt in ({{ zero.output_direction.map((part) => number(part, 2)).join(", ") }})</span
        >
      </span>
    </p>
    <details :open="isAtAField || !found.relative_gains || asked !== null" class="shrink-0">
      <summary class="cursor-pointer font-semibold">Between which signals, on which spans</summary>
      <div class="mt-1 grid grid-cols-2 gap-x-8 gap-y-2">
        <div v-for="(one, k) in question.outputs" :key="`o${k}`" class="col-start-1 grid max-w-[330px] gap-1">
          <label class="flex items-center justify-between gap-2 text-soft"
            >output {{ k + 1 }}
            <select
              class="entry"
              :value="one.output"
              @change="chooseOutput(k, ($event.target as HTMLSelectElement).value)"
            >
              <option v-for="known in description?.outputs ?? []" :key="known.name" :value="known.name">
                {{ readable(known.name) }}
              </option>
            </select>
          </label>
          <NumberField
            label="0 % at"
            :unit="one.span.unit"
            :model-value="one.span.low"
            @update:model-value="
              (value) => value !== null && change((next) => (next.outputs[k]!.span.low = value))
            "
          />
          <NumberField
            label="100 % at"
            :unit="one.span.unit"
            :model-value="one.span.high"
            :problem="problemAt(`outputs[${k}]`)"
            @update:model-value="
              (value) => value !== null && change((next) => (next.outputs[k]!.span.high = value))
            "
          />
        </div>
        <div
          v-for="(one, k) in question.inputs"
          :key="`i${k}`"
          class="col-start-2 grid max-w-[330px] gap-1"
          :style="{ gridRow: k + 1 }"
        >
          <label class="flex items-center justify-between gap-2 text-soft"
            >input {{ k + 1 }}
            <select
              class="entry"
              :value="one.input"
              @change="chooseInput(k, ($event.target as HTMLSelectElement).value)"
            >
              <option v-for="known in description?.inputs ?? []" :key="known.name" :value="known.name">
                {{ readable(known.name) }}
              </option>
            </select>
          </label>
          <NumberField
            label="at 0 %"
            :unit="unitOfInput(one.input)"
            :model-value="one.at_0"
            @update:model-value="
              (value) => value !== null && change((next) => (next.inputs[k]!.at_0 = value))
            "
          />
          <NumberField
            label="at 100 %"
            :unit="unitOfInput(one.input)"
            :model-value="one.at_100"
            :problem="problemAt(`inputs[${k}]`)"
            @update:model-value="
              (value) => value !== null && change((next) => (next.inputs[k]!.at_100 = value))
            "
          />
        </div>
      </div>
      <button v-if="spare" type="button" class="button mt-2 mr-2 !py-0" @click="morePairs">
        Another pair
      </button>
      <button
        v-if="question.outputs.length > 2"
        type="button"
        class="button mt-2 mr-2 !py-0"
        @click="fewerPairs"
      >
        Without the last pair
      </button>
      <button v-if="asked" type="button" class="button mt-2 !py-0" @click="chosen = null">As usual</button>
    </details>
    <ProblemNote v-if="!isAtAField" :text="problem" />
  </div>
</template>
