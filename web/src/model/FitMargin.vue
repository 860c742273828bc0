<script setup lang="ts">
/** What is set before a fit. */
import { computed, reactive, ref, watch } from "vue";
import type { RecordInfo, Schemas } from "../api/client";
import { number, plural, readNumber } from "../lib/format";
import NumberField from "../components/NumberField.vue";
import {
  hasDeadTimes,
  hasOutputs,
  inWords,
  isProcess,
  offerOf,
  useStructures,
  type Kind,
} from "../lib/structures";
import MatrixCells from "./MatrixCells.vue";
import PhysicalFit from "./PhysicalFit.vue";
import type { FitDraft, KnownParameter } from "./useFit";

const props = defineProps<{
  fit: FitDraft;
  record: RecordInfo | null;
  records: RecordInfo[];
  fitting: boolean;
  refusal: string;
  isFirst: boolean;
}>();
const emit = defineEmits<{
  fit: [];
  record: [id: string];
  view: [target: "estimation" | "validation" | "further"];
}>();

const draft = computed(() => props.fit.draft);
const structures = useStructures();
const offer = computed(() => offerOf(draft.value.kind));
watch(
  () => props.record,
  (record) => record && props.fit.follow(record),
  { immediate: true },
);
/** The fit as it would be asked for. */
const request = computed<Schemas["IdentifyRequest"] | null>(() =>
  props.record
    ? {
        record_id: props.record.id,
        windows: props.fit.windows.value,
        further: draft.value.further,
        options: props.fit.options.value,
      }
    : null,
);
const isPhysical = computed(() => draft.value.kind === "physical");
/** Why a physical model cannot be fitted yet; empty where it can. */
const unready = computed(() => {
  if (!isPhysical.value) return "";
  const own = props.fit.physical.options.value;
  if (!own) return "Choose the process first.";
  return own.sought.length ? "" : "Tick what is to be sought.";
});
/** All but the PV and the OP of the loop; further ones are signals like others. */
const others = computed(
  () =>
    props.record?.channels.filter(
      ({ tag, role }) => role !== "sp" && tag !== draft.value.own.pv && tag !== draft.value.own.op,
    ) ?? [],
);
/** Disturbances and what is taken are in sight; of many others the rest on demand. */
const allOthers = ref(false);
const shownOthers = computed(() =>
  others.value.filter(
    (channel) =>
      allOthers.value ||
      others.value.length <= 6 ||
      ["dv", "pv", "op"].includes(channel.role) ||
      draft.value.disturbances.includes(channel.tag) ||
      draft.value.outputs.includes(channel.tag),
  ),
);
const lossName = computed(() => losses.find(([kind]) => kind === draft.value.loss)?.[1] ?? "");

/** What may disturb the PV besides the inputs. */
const noises: [Schemas["NoiseModel"], string][] = [
  ["white", "without memory: least squares"],
  ["autoregression", "with memory, order found"],
  ["integrated", "drifts and does not come back"],
];
const noiseHint =
  "With memory: process and noise by maximum likelihood, right in a closed loop, too. Drifts: the same of the moves from sample to sample.";
const losses = [
  ["squares", "squares"],
  ["huber", "Huber, for outliers"],
  ["absolute", "absolute value"],
  ["dead_band", "dead band at the noise"],
] as const;

function known(name: string): KnownParameter {
  return draft.value.known[name] ?? { parameter: name, fixed: null, low: null, high: null };
}

function setKnown(name: string, key: "fixed" | "low" | "high", value: number | null) {
  draft.value.known[name] = { ...known(name), [key]: value };
}

/** What was typed and is no number, by field: it is told, and never taken for nothing. */
const wrong = reactive(new Map<string, string>());
const END = { fixed: "exactly", low: "lowest", high: "highest" };

function typedKnown(name: string, key: "fixed" | "low" | "high", text: string) {
  const at = `${name} ${key}`;
  const value = text.trim() === "" ? null : readNumber(text);
  if (value !== null && !Number.isFinite(value)) {
    wrong.set(at, `“${text}” is no number: the ${inWords(name)} stays as it was.`);
    return;
  }
  wrong.delete(at);
  setKnown(name, key, value);
  const { fixed, low, high } = known(name);
  const pair = `${name} pair`;
  wrong.delete(pair);
  if (low !== null && high !== null && low > high)
    wrong.set(pair, `The lowest ${inWords(name)} (${number(low)}) is above the highest (${number(high)}).`);
  else if (fixed !== null && ((low !== null && fixed < low) || (high !== null && fixed > high)))
    wrong.set(pair, `The ${inWords(name)} given exactly (${number(fixed)}) lies outside its bounds.`);
}
const nameOf = (id: string) => props.records.find((one) => one.id === id)?.name ?? "a record that is gone";

function addRecord(event: Event) {
  const list = event.target as HTMLSelectElement;
  draft.value.further.push({ record_id: list.value, from: null, to: null });
  list.value = "";
}
const complaints = computed(() => [...wrong.values()]);

const knownCount = computed(
  () =>
    Object.values(draft.value.known).filter(
      (one) => one.fixed !== null || one.low !== null || one.high !== null,
    ).length,
);
</script>

<template>
  <div class="grid gap-2">
    <label class="grid grid-cols-[1fr_216px] items-center gap-2">
      Record
      <select
        class="entry"
        :value="record?.id"
        @change="emit('record', ($event.target as HTMLSelectElement).value)"
      >
        <option v-for="one in records" :key="one.id" :value="one.id">{{ one.name }}</option>
      </select>
    </label>
    <label class="grid grid-cols-[1fr_216px] items-center gap-2">
      Structure
      <select
        class="entry"
        :value="draft.kind"
        @change="fit.chooseKind(($event.target as HTMLSelectElement).value as Kind)"
      >
        <option v-for="one in structures" :key="one.structure.kind" :value="one.structure.kind">
          {{ one.title }}
        </option>
      </select>
    </label>
    <NumberField
      v-for="order in offer?.orders ?? []"
      :key="order.name"
      :label="order.title"
      :unit="order.name === 'nk' ? 'samples' : ''"
      :min="order.low"
      :max="order.high"
      :model-value="draft.orders[order.name] ?? order.value"
      @update:model-value="draft.orders[order.name] = Math.round($event ?? order.value)"
    />
    <PhysicalFit v-if="isPhysical" :physical="fit.physical" :record="record" :request="request" />
    <fieldset v-if="others.length && !isPhysical" class="border-l-[3px] border-rule pl-3">
      <legend class="sr-only">Further signals</legend>
      <template v-if="shownOthers.length">
        <p class="text-[12.5px] text-soft">
          {{ draft.kind === "matrix" ? "Further inputs" : "Measured disturbances, as further inputs" }}
        </p>
        <label v-for="channel in shownOthers" :key="channel.tag" class="flex items-center gap-2">
          <input
            v-model="draft.disturbances"
            type="checkbox"
            :value="channel.tag"
            :disabled="hasOutputs(draft.kind) && draft.outputs.includes(channel.tag)"
          />
          <span class="min-w-0 truncate">{{ channel.tag }}</span>
          <span class="text-[12px] text-soft">{{ channel.unit }}</span>
        </label>
      </template>
      <template v-if="hasOutputs(draft.kind) && shownOthers.length">
        <p class="mt-1 text-[12.5px] text-soft">Further outputs</p>
        <label v-for="channel in shownOthers" :key="channel.tag" class="flex items-center gap-2">
          <input
            v-model="draft.outputs"
            type="checkbox"
            :value="channel.tag"
            :disabled="draft.disturbances.includes(channel.tag)"
          />
          <span class="min-w-0 truncate">{{ channel.tag }}</span>
        </label>
      </template>
      <button
        v-if="others.length > shownOthers.length"
        type="button"
        class="text-[12.5px] text-soft underline decoration-rule underline-offset-2 hover:text-ink"
        @click="allOthers = true"
      >
        {{ others.length - shownOthers.length }} other signals …
      </button>
    </fieldset>
    <MatrixCells v-if="draft.kind === 'matrix'" :fit="fit" />
    <NumberField v-model="draft.from" label="From" unit="s" :min="0" when-empty="start" />
    <NumberField v-model="draft.to" label="To" unit="s" :min="0" when-empty="end" />
    <fieldset class="border-l-[3px] border-rule pl-3">
      <legend class="sr-only">Further stretches</legend>
      <p class="text-[12.5px] text-soft">Fitted together with</p>
      <ul v-if="draft.further.length" class="my-1 grid gap-1" aria-label="Further stretches">
        <li v-for="(stretch, k) in draft.further" :key="k" class="grid gap-1">
          <span class="flex items-center gap-2">
            <span class="min-w-0 flex-1 truncate" :title="nameOf(stretch.record_id)">{{
              nameOf(stretch.record_id)
            }}</span>
            <button
              type="button"
              class="px-1 text-soft hover:text-ink"
              :aria-label="`Leave out stretch ${k + 2}, ${nameOf(stretch.record_id)}`"
              @click="draft.further.splice(k, 1)"
            >
              ✕
            </button>
          </span>
          <NumberField v-model="stretch.from" label="From" unit="s" :min="0" when-empty="start" />
          <NumberField v-model="stretch.to" label="To" unit="s" :min="0" when-empty="end" />
        </li>
      </ul>
      <div class="flex flex-wrap gap-2">
        <select class="entry w-[150px]" aria-label="Fit to a further record" @change="addRecord">
          <option value="">a record …</option>
          <option v-for="one in records" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select>
        <button type="button" class="button" :disabled="!record" @click="emit('view', 'further')">
          Stretch as shown
        </button>
      </div>
    </fieldset>
    <label class="grid grid-cols-[1fr_216px] items-center gap-2">
      Validate on
      <select v-model="draft.validation" class="entry">
        <option value="half">
          {{ draft.further.length ? "the second half of the first" : "the second half" }}
        </option>
        <option value="window">another window</option>
        <option value="none">nothing</option>
      </select>
    </label>
    <template v-if="draft.validation === 'window'">
      <NumberField v-model="draft.validationFrom" label="Validate from" unit="s" :min="0" when-empty="0" />
      <NumberField v-model="draft.validationTo" label="Validate to" unit="s" :min="0" when-empty="0" />
    </template>
    <div class="flex flex-wrap gap-2">
      <button
        type="button"
        class="button"
        :class="isFirst ? 'button-main' : ''"
        :disabled="!record || fitting || complaints.length > 0 || unready !== ''"
        :title="unready"
        @click="emit('fit')"
      >
        {{ fitting ? "Fitting …" : "Fit" }} <kbd class="key">f</kbd>
      </button>
      <button type="button" class="button" :disabled="!record" @click="emit('view', 'estimation')">
        Window as shown
      </button>
      <button
        v-if="draft.validation === 'window'"
        type="button"
        class="button"
        :disabled="!record"
        @click="emit('view', 'validation')"
      >
        Validate as shown
      </button>
    </div>
    <p v-if="refusal" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ refusal }}</p>
    <p v-if="unready" class="text-[12.5px] text-soft" role="status">{{ unready }}</p>
    <label
      v-if="hasDeadTimes(draft.kind) || isPhysical"
      class="grid grid-cols-[1fr_216px] items-center gap-2"
    >
      Noise
      <select v-model="draft.noise" class="entry" :title="noiseHint">
        <option v-for="[kind, words] in noises" :key="kind" :value="kind">{{ words }}</option>
      </select>
    </label>
    <template v-if="hasDeadTimes(draft.kind)">
      <label class="flex items-center gap-2">
        <input v-model="draft.findSteps" type="checkbox" /> find steps of the PV that nothing measured
        explains
      </label>
    </template>
    <details>
      <summary class="cursor-pointer text-soft">
        Loss: {{ lossName }}{{ hasDeadTimes(draft.kind) && draft.drift ? ", drift" : "" }}
      </summary>
      <div class="mt-2 grid gap-2">
        <label v-if="draft.kind !== 'state_space'" class="grid grid-cols-[1fr_216px] items-center gap-2">
          A residual costs
          <select v-model="draft.loss" class="entry">
            <option v-for="[kind, words] in losses" :key="kind" :value="kind">{{ words }}</option>
          </select>
        </label>
        <template v-if="hasDeadTimes(draft.kind)">
          <label class="flex items-center gap-2">
            <input v-model="draft.drift" type="checkbox" /> estimate a steady drift of the PV
          </label>
          <label class="flex items-center gap-2">
            <input v-model="draft.initialState" type="checkbox" /> the record may begin away from rest
          </label>
        </template>
      </div>
    </details>
    <details v-if="isProcess(draft.kind)">
      <summary class="cursor-pointer text-soft">
        Known beforehand: {{ knownCount === 0 ? "nothing" : plural(knownCount, "parameter") }}
      </summary>
      <table class="mt-1 w-full text-[13px]">
        <thead class="text-[12px] text-soft">
          <tr>
            <th class="text-left font-normal"></th>
            <th class="font-normal">exactly</th>
            <th class="font-normal">lowest</th>
            <th class="font-normal">highest</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="name in offer?.parameters ?? []" :key="name">
            <td>{{ inWords(name) }}</td>
            <td v-for="key in ['fixed', 'low', 'high'] as const" :key="key" class="p-[2px]">
              <input
                class="entry w-[68px] text-right"
                :class="wrong.has(`${name} ${key}`) ? '!border-limit' : ''"
                inputmode="decimal"
                :aria-label="`${inWords(name)} ${END[key]}`"
                :value="known(name)[key] ?? ''"
                :aria-invalid="wrong.has(`${name} ${key}`)"
                @change="typedKnown(name, key, ($event.target as HTMLInputElement).value)"
              />
            </td>
          </tr>
        </tbody>
      </table>
      <p v-for="text in complaints" :key="text" class="text-[12.5px] text-limit" role="alert">{{ text }}</p>
    </details>
  </div>
</template>
