<script setup lang="ts">
/** A physical model led along a record: what no sensor shows, and numbers that drift, with bands and the test of the innovations. */
import { computed, ref, watch } from "vue";
import {
  answered,
  api,
  fieldOf,
  messageOf,
  type ModelRow,
  type RecordInfo,
  type Schemas,
} from "../api/client";
import FieldList from "../components/FieldList.vue";
import StateNotice from "../components/StateNotice.vue";
import TimeStrip from "../components/TimeStrip.vue";
import VerdictNote from "../components/VerdictNote.vue";
import { rangeIn, whenGiven, type Field } from "../lib/field";
import { duration, number } from "../lib/format";
import { useKept } from "../lib/kept";
import { useRetry } from "../lib/retry";
import { inWords } from "../lib/structures";
import { trackingPanels } from "./tracking";

const props = defineProps<{ model: ModelRow; records: RecordInfo[]; shown: string | null }>();

type Options = Schemas["TrackingOptions"];
type Drifting = Schemas["Drifting"];
const settings = useKept(`tracking ${props.model.id}`, () => ({
  record: props.shown ?? props.model.record_id,
  options: {
    method: "extended",
    drifting: [],
    noise: {},
    unrest: 0.1,
    states: {},
    window: 20,
    every: null,
    dead_band: 0,
  } as Options,
}));
const options = computed(() => settings.value.options);
const found = ref<Schemas["TrackedRecord"] | null>(null);
const problem = ref<unknown>(null);
const busy = ref(false);
/** What was asked for when the answer came: anything else on the page is not yet in the curves. */
const asked = ref("");
let aborter = new AbortController();

async function run() {
  aborter.abort();
  aborter = new AbortController();
  const own = aborter;
  busy.value = true;
  problem.value = null;
  const wanted = JSON.stringify(settings.value);
  try {
    const body = { record_id: settings.value.record, options: options.value };
    const params = { path: { id: props.model.id } };
    found.value = await answered(
      api.POST("/api/v1/models/{id}/tracking", { params, body, signal: own.signal }),
    );
    asked.value = wanted;
  } catch (error) {
    if (own === aborter && !own.signal.aborted) problem.value = error;
  } finally {
    if (own === aborter) busy.value = false;
  }
}
watch(() => props.model.id, run, { immediate: true });
useRetry(() => problem.value !== null, run);
const isOld = computed(() => found.value !== null && asked.value !== JSON.stringify(settings.value));

const refused = (field: string) =>
  fieldOf(problem.value) === `options.${field}` ? messageOf(problem.value) : "";
const mayDrift = computed(() => found.value?.tracked.may_drift ?? []);
const same = (a: { kind?: string; name: string }, b: { kind?: string; name: string }) =>
  (a.kind ?? "parameter") === (b.kind ?? "parameter") && a.name === b.name;
const placeOf = (one: { kind?: string; name: string }) =>
  (options.value.drifting ?? []).findIndex((own) => same(own, one));
const label = (one: { kind?: string; name: string }) =>
  one.kind === "offset" ? `offset of ${inWords(one.name)}` : inWords(one.name);

function toggle(one: Schemas["MayDrift"]) {
  const list = options.value.drifting ?? [];
  const place = placeOf(one);
  options.value.drifting =
    place >= 0 ? list.filter((_, k) => k !== place) : [...list, { kind: one.kind, name: one.name }];
  void run();
}

/** What comes to a state by what nobody knows. */
const stateFields = computed<Field[]>(() =>
  (found.value?.tracked.numbers ?? [])
    .filter((one) => one.per_hour == null)
    .map((one) => ({
      key: `state ${one.name}`,
      label: inWords(one.name),
      unit: one.unit,
      value: options.value.states?.[one.name] ?? null,
      set: (value) => {
        const others = Object.entries(options.value.states ?? {}).filter(([name]) => name !== one.name);
        options.value.states = Object.fromEntries(value === null ? others : [...others, [one.name, value]]);
      },
      min: 0,
      whenEmpty: "as above",
      hint: "standard deviation of what an hour changes of it by what nobody knows",
      problem: refused(`states.${one.name}`),
    })),
);

/** What an hour was taken to change of it, where nothing was typed. */
function usual(one: Drifting): string {
  const name = one.kind === "offset" ? `offset_of_${one.name}` : one.name;
  const rate = found.value?.tracked.numbers.find(
    (own) => own.name === name && own.per_hour != null,
  )?.per_hour;
  return rate == null ? "" : number(rate, 2);
}

const driftFields = computed(() =>
  (options.value.drifting ?? []).map((own, k) => {
    const unit = mayDrift.value.find((one) => same(one, own))?.unit ?? "";
    const at = (part: string) => refused(`drifting[${k}].${part}`);
    const entry = (
      part: "per_hour" | "at_start" | "low" | "high" | "limit",
      title: string,
      more: Partial<Field>,
    ) => ({
      key: `${own.kind} ${own.name} ${part}`,
      label: title,
      unit,
      value: own[part] ?? null,
      set: (value: number | null) => {
        own[part] = value;
      },
      problem: at(part),
      ...more,
    });
    const fields: Field[] = [
      entry("per_hour", "Changes an hour", { min: 0, whenEmpty: usual(own), hint: "standard deviation" }),
      entry("at_start", "Not known at start", {
        min: 0,
        exclusive: true,
        whenEmpty: "a tenth",
        hint: "standard deviation",
      }),
      entry("low", "At least", { whenEmpty: "any" }),
      entry("high", "At most", { whenEmpty: "any" }),
    ];
    if (options.value.method === "moving_horizon")
      fields.push(entry("limit", "Change a sample", { min: 0, exclusive: true, whenEmpty: "any" }));
    return { own, title: label(own), fields, problem: at("name") };
  }),
);

const fields = computed<Field[]>(() => {
  const own = options.value;
  const list: Field[] = [
    {
      key: "unrest",
      label: "Unknown a sample",
      unit: "× noise",
      hint: "what comes unknown to each measured state within a sample: little trusts the model, much the measurement",
      value: own.unrest ?? null,
      set: whenGiven((value) => (own.unrest = value)),
      min: 0,
      problem: refused("unrest"),
      ...rangeIn("TrackingOptions", "unrest"),
    },
  ];
  for (const output of found.value?.tracked.outputs ?? [])
    list.push({
      key: `noise ${output.tag}`,
      label: `Noise of ${output.tag}`,
      unit: output.unit,
      value: own.noise?.[output.tag] ?? null,
      set: (value) => {
        const others = Object.entries(own.noise ?? {}).filter(([tag]) => tag !== output.tag);
        own.noise = Object.fromEntries(value === null ? others : [...others, [output.tag, value]]);
      },
      min: 0,
      exclusive: true,
      whenEmpty: number(output.noise, 2),
      hint: "standard deviation; what the model left where nothing is typed",
      problem: refused(`noise.${output.tag}`),
    });
  if (own.method === "moving_horizon")
    list.push(
      {
        key: "window",
        label: "Window",
        unit: "samples",
        value: own.window ?? null,
        set: whenGiven((value) => (own.window = Math.round(value))),
        min: 1,
        max: 100,
        problem: refused("window"),
      },
      {
        key: "every",
        label: "Solved every",
        unit: "samples",
        hint: "in between it goes on as an extended Kalman filter",
        value: own.every ?? null,
        set: (value) => (own.every = value === null ? null : Math.round(value)),
        min: 1,
        whenEmpty: String(found.value?.tracked.every ?? ""),
        problem: refused("every"),
      },
      {
        key: "dead_band",
        label: "Dead band",
        unit: "× noise",
        value: own.dead_band ?? null,
        set: whenGiven((value) => (own.dead_band = value)),
        min: 0,
        max: 10,
        problem: refused("dead_band"),
      },
    );
  return list;
});

const record = computed(() =>
  props.records.find((one) => one.id === (found.value?.record_id ?? settings.value.record)),
);
const panels = computed(() => (found.value ? trackingPanels(found.value.tracked, found.value.from) : []));
const extent = computed<[number, number]>(() => {
  const from = found.value?.from ?? 0;
  return [from, from + (found.value?.tracked.times.at(-1) ?? 1)];
});
const message = computed(() => (problem.value === null ? "" : messageOf(problem.value)));
const test = computed(() => found.value?.tracked.test ?? null);
</script>

<template>
  <div class="h-full min-h-0">
    <StateNotice
      v-if="!found && message"
      kind="failed"
      title="The model cannot be led along this record"
      :retry="run"
    >
      {{ message }}
    </StateNotice>
    <StateNotice v-else-if="!found" kind="loading" title="The model is led along the record" />
    <div v-else class="h-full min-h-0" :class="isOld || busy ? 'opacity-60' : ''">
      <TimeStrip
        :key="`${found.record_id} ${panels.length}`"
        :panels="panels"
        :marks="[]"
        :extent="extent"
        :start="record?.started"
        label="Estimates over time: what drifts, what was measured and expected, states"
      />
    </div>
    <Teleport defer to="#view-settings">
      <form class="grid content-start gap-[6px]" @submit.prevent="run">
        <h1 class="heading">On line</h1>
        <label class="grid gap-[2px]">
          <span class="text-soft">Record</span>
          <select v-model="settings.record" class="entry" aria-label="Record that is followed" @change="run">
            <option v-for="one in records" :key="one.id" :value="one.id">
              {{ one.name }}, {{ duration(one.duration) }}
            </option>
          </select>
        </label>
        <label class="grid gap-[2px]">
          <span class="text-soft">Estimator</span>
          <select v-model="options.method" class="entry" aria-label="Estimator" @change="run">
            <option value="extended">extended Kalman filter</option>
            <option value="unscented">unscented Kalman filter</option>
            <option value="moving_horizon">moving horizon, within bounds</option>
          </select>
        </label>
        <fieldset class="grid gap-[2px]">
          <legend class="mt-1 mb-[2px] font-semibold">Drifts</legend>
          <p v-if="!mayDrift.length" class="text-soft">What can drift is told with the first answer.</p>
          <label v-for="one in mayDrift" :key="`${one.kind} ${one.name}`" class="flex items-baseline gap-2">
            <input type="checkbox" :checked="placeOf(one) >= 0" @change="toggle(one)" />
            <span :title="one.text">{{ label(one) }}</span>
            <span class="ml-auto text-soft tabular-nums">{{ number(one.value, 3) }} {{ one.unit }}</span>
          </label>
        </fieldset>
        <section
          v-for="{ own, title, fields: list, problem: why } in driftFields"
          :key="`${own.kind} ${own.name}`"
        >
          <h2 class="mt-1 mb-[2px] font-semibold">{{ title }}</h2>
          <p v-if="why" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ why }}</p>
          <FieldList :fields="list" />
        </section>
        <h2 class="mt-1 mb-[2px] font-semibold">Noise</h2>
        <FieldList :fields="fields" />
        <details v-if="stateFields.length">
          <summary class="cursor-pointer text-soft">Unknown changes of states, an hour</summary>
          <FieldList class="mt-1" :fields="stateFields" />
        </details>
        <div class="mt-1 flex items-center gap-3">
          <button type="submit" class="button button-main" :disabled="busy">
            {{ busy ? "Following …" : "Follow" }}
          </button>
          <span v-if="isOld && !busy" class="text-soft">The curves are those of the settings before.</span>
        </div>
        <p v-if="message && found" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ message }}
        </p>
      </form>
    </Teleport>
    <Teleport defer to="#view-figures">
      <p v-if="found && (busy || isOld)" class="text-soft" role="status">
        {{ busy ? "Following …" : "" }} What follows is of the settings before.
      </p>
      <div v-if="found" class="grid gap-1" :class="isOld || busy ? 'opacity-60' : ''">
        <VerdictNote v-for="verdict in found.tracked.verdicts" :key="verdict.text" :verdict="verdict" />
        <p v-if="test" class="text-[12.5px] text-soft">
          {{ test.samples }} innovations: {{ number(100 * test.share_within, 3) }} % within their 95 % band,
          {{ number(test.ratio, 3) }} times the expected variance, neighbours correlated by
          {{ number(Math.round(100 * test.correlation) / 100 || 0, 2) }}. Shaded: 95 % bands; red where not to
          be believed.
        </p>
      </div>
    </Teleport>
  </div>
</template>
