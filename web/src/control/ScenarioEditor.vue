<script setup lang="ts">
/** The timeline as a list: what happens, when, how much; saved with the loop to be used again. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import FieldList from "../components/FieldList.vue";
import { rangeOf, whenGiven, type Field } from "../lib/field";
import { duration } from "../lib/format";
import { useLoop } from "../lib/loop";
import { pointsText, readPoints } from "../lib/points";
import { choicesOf, colourOf, describe, fieldsOf, fresh, isLoad, KINDS, titleOf, type Event } from "./events";
import { eventsOf, measuredTags, readFrom } from "./loops";
import { allLimits, predictiveOf, rankedLabel, spanOf } from "./limits";
import SavedList from "./SavedList.vue";
import { useSaved, type SavedItem } from "./useSaved";

const props = defineProps<{
  trial: Trial;
  description: Schemas["Description"] | null;
  /** The event that is refused. */
  refusedEvent?: number | null;
  /** The further controller at which things happen; nothing for the first loop. */
  of?: string;
}>();
const emit = defineEmits<{ change: [edit: (trial: Trial) => void, name?: string]; settled: [] }>();
const { state } = useLoop();

const open = ref<number | null>(null);
watch(
  () => props.refusedEvent,
  (index) => {
    if (typeof index === "number") open.value = index;
  },
  { immediate: true },
);
const problem = ref("");
/** The trial with the events and the PV of the loop at hand. */
const seen = computed(() => readFrom(props.trial, props.of ?? ""));
const pvUnit = computed(() => seen.value.plant.pv.span.unit);

const inWords = (event: Event) =>
  describe(event, pvUnit.value, props.description, (tag) => spanOf(props.trial, tag).unit);

/** Units in which channels came, by tag: one that is set aside can be taken again. */
const cameIn = new Map<string, string>();
watch(
  () => seen.value.scenario.events,
  (events) => {
    for (const event of events)
      if (event.kind === "load_channel" && event.unit) cameIn.set(event.tag, event.unit);
  },
  { immediate: true },
);

/** Units that the samples of a channel can be taken in: its own, and that of the input as if nothing were known. */
function unitsOf(event: Event): { value: string; title: string }[] {
  if (event.kind !== "load_channel") return [];
  const own = cameIn.get(event.tag);
  const ofInput = { value: "", title: "the unit of the input" };
  return own ? [{ value: own, title: own }, ofInput] : [ofInput];
}

/** The events in the order of time, each with its place in the list. */
const rows = computed(() =>
  seen.value.scenario.events
    .map((event, index) => ({ event, index }))
    .sort((a, b) => a.event.at - b.event.at || a.index - b.index),
);

function edit(index: number, change: (event: Event) => void) {
  emit("change", (trial) => {
    const event = eventsOf(trial, props.of ?? "")[index];
    if (event) change(event);
  });
}

function remove(index: number) {
  open.value = null;
  emit("change", (trial) => eventsOf(trial, props.of ?? "").splice(index, 1));
}

const channels = computed(() =>
  state.records.flatMap((record) =>
    record.channels.map((channel) => ({
      key: `${record.id} ${channel.tag}`,
      record: record.id,
      tag: channel.tag,
      role: channel.role,
      text: `${channel.tag}, ${record.name}`,
    })),
  ),
);

async function channelOf(key: string) {
  const chosen = channels.value.find((channel) => channel.key === key);
  if (!chosen) return null;
  const samples = await answered(
    api.GET("/api/v1/records/{id}/channel", {
      params: { path: { id: chosen.record }, query: { tag: chosen.tag, samples: 2000 } },
    }),
  );
  return { tag: chosen.tag, ...samples };
}

async function add(kind: Event["kind"]) {
  problem.value = "";
  try {
    const first =
      kind === "load_channel"
        ? (channels.value.find((channel) => channel.role === "dv") ??
          channels.value.find((channel) => channel.role === "other") ??
          channels.value[0])
        : null;
    if (kind === "load_channel" && !first) {
      problem.value = "There is no record yet to take a channel from: load one at Measure.";
      return;
    }
    const channel = first ? await channelOf(first.key) : null;
    const event = await fresh(kind, props.trial, channel);
    const index = seen.value.scenario.events.length;
    emit("change", (trial) => eventsOf(trial, props.of ?? "").push(event));
    open.value = index;
  } catch (error) {
    problem.value = messageOf(error);
  }
}

async function chooseChannel(index: number, key: string) {
  try {
    const channel = await channelOf(key);
    if (channel) edit(index, (event) => Object.assign(event, channel));
  } catch (error) {
    problem.value = messageOf(error);
  }
}

function chooseParameter(index: number, parameter: string) {
  const known = props.description?.parameters.find((quantity) => quantity.name === parameter);
  edit(index, (event) => Object.assign(event, { parameter, to: known?.value ?? 1 }));
}

function setProfile(index: number, text: string) {
  const points = readPoints(text);
  problem.value = points ? "" : "A profile is written as “seconds: set point”, a point a line.";
  if (points) edit(index, (event) => Object.assign(event, { points }));
}

const inputs = computed(() => {
  const driven = props.trial.plant.drive?.input ?? props.description?.drive.input;
  return (props.description?.inputs ?? []).filter((input) => input.name !== driven);
});

/** Whose sensor can fail: that of what the controller measures, and all others of the plant. */
const sensors = computed(() => {
  const own = seen.value.plant.pv.tag;
  const disturbances = (props.trial.plant.measured_disturbances ?? []).map((one) => one.tag);
  const others = [...measuredTags(props.trial).filter((tag) => tag !== own), ...disturbances];
  return [{ value: "", title: own }, ...others.map((tag) => ({ value: tag, title: tag }))];
});

/** The limits of the predictive controller, which can be moved. */
const limits = computed(() =>
  (predictiveOf(props.trial)?.cvs ?? []).flatMap((cv) =>
    allLimits(cv).map(({ side, limit }) => ({
      value: JSON.stringify([cv.tag, side, limit.rank]),
      title: `${rankedLabel(side, limit.rank)}, ${cv.tag}`,
    })),
  ),
);

function chooseLimit(index: number, text: string) {
  const [cv, side, rank] = JSON.parse(text) as [string, Schemas["Side"], number];
  edit(index, (event) => Object.assign(event, { cv, side, rank }));
}

/** What can be added here. */
const kinds = computed(() =>
  KINDS.map(({ group, kinds: all }) => ({
    group,
    kinds: all.filter(
      ([kind]) =>
        (!props.of || kind !== "parameter_change") && (kind !== "limit_moves" || limits.value.length > 0),
    ),
  })),
);

const frame = computed<Field[]>(() => {
  const { scenario } = props.trial;
  const field = (key: "duration" | "scan", label: string): Field => ({
    key,
    label,
    unit: "s",
    ...rangeOf("Scenario", key),
    value: scenario[key],
    set: whenGiven((value) => emit("change", (trial) => (trial.scenario[key] = value))),
  });
  return [
    field("duration", "Duration"),
    field("scan", "Scan"),
    {
      key: "seed",
      label: "Seed",
      unit: "",
      min: 0,
      hint: "of noise and random walks",
      value: scenario.seed ?? 0,
      set: whenGiven((value) => emit("change", (trial) => (trial.scenario.seed = Math.round(value)))),
    },
  ];
});

const { saved, unreadable, trouble, save, change: keepSaved, forget, specOf } = useSaved("scenario");

function use(item: SavedItem) {
  emit("change", (trial) => (trial.scenario = specOf(item)), `scenario ${item.name}`);
}
</script>

<template>
  <div class="grid grid-cols-1 gap-[6px]">
    <SavedList
      what="scenario"
      :items="saved"
      :unreadable="unreadable"
      :keep="(item, name, remark, force) => keepSaved(item, name, remark, null, force)"
      @use="use"
      @save="save($event, trial.scenario)"
      @replace="keepSaved($event, $event.name, $event.remark, trial.scenario)"
      @forget="forget"
    />
    <ul class="border-y border-rule" aria-label="Events">
      <li v-for="{ event, index } in rows" :key="index" class="border-b border-rule last:border-0">
        <div class="flex items-baseline gap-2">
          <button
            type="button"
            class="flex min-w-0 flex-1 items-baseline gap-2 py-[3px] text-left hover:text-pv"
            :aria-expanded="open === index"
            @click="open = open === index ? null : index"
          >
            <span class="w-[58px] shrink-0 text-right text-soft">{{ duration(event.at) }}</span>
            <span
              class="h-[10px] w-[3px] shrink-0 self-center"
              :style="{ background: `var(${colourOf(event)})` }"
              aria-hidden="true"
            />
            <span class="min-w-0 flex-1">{{ inWords(event) }}</span>
          </button>
          <button
            type="button"
            class="px-1 text-soft hover:text-limit"
            :aria-label="`Remove: ${inWords(event)}`"
            @click="remove(index)"
          >
            ×
          </button>
        </div>
        <div v-if="open === index" class="grid gap-[6px] border-l-[3px] border-rule pb-2 pl-3">
          <ChoiceField
            v-if="isLoad(event)"
            label="Acts on"
            :model-value="event.input ?? ''"
            :choices="[{ value: '', title: 'the OP (%)' }, ...choicesOf(inputs)]"
            @update:model-value="
              (input) => edit(index, (next) => Object.assign(next, { input: input || null }))
            "
          />
          <ChoiceField
            v-if="event.kind === 'load_channel'"
            label="Follows"
            :model-value="channels.find((channel) => channel.tag === event.tag)?.key ?? ''"
            :choices="channels.map((channel) => ({ value: channel.key, title: channel.text }))"
            @update:model-value="(key) => chooseChannel(index, key)"
          />
          <ChoiceField
            v-if="event.kind === 'load_channel' && unitsOf(event).length > 1"
            label="Its samples are in"
            :model-value="event.unit ?? ''"
            :choices="unitsOf(event)"
            @update:model-value="(unit) => edit(index, (next) => Object.assign(next, { unit: unit || null }))"
          />
          <ChoiceField
            v-if="event.kind === 'parameter_change'"
            label="Parameter"
            :model-value="event.parameter"
            :choices="choicesOf(description?.parameters ?? [])"
            @update:model-value="(parameter) => chooseParameter(index, parameter)"
          />
          <ChoiceField
            v-if="event.kind === 'sensor_fails'"
            label="It shows"
            :model-value="event.how"
            :choices="[
              { value: 'stuck', title: 'its last value' },
              { value: 'low', title: 'the low end of its span' },
              { value: 'high', title: 'the high end of its span' },
            ]"
            @update:model-value="(how) => edit(index, (next) => Object.assign(next, { how }))"
          />
          <ChoiceField
            v-if="event.kind === 'sensor_fails' && sensors.length > 1"
            label="The sensor of"
            :model-value="event.signal ?? ''"
            :choices="sensors"
            @update:model-value="
              (signal) => edit(index, (next) => Object.assign(next, { signal: signal || undefined }))
            "
          />
          <ChoiceField
            v-if="event.kind === 'limit_moves'"
            label="Which limit"
            :model-value="JSON.stringify([event.cv, event.side, event.rank])"
            :choices="limits"
            @update:model-value="(text) => chooseLimit(index, text)"
          />
          <FieldList
            :fields="fieldsOf(event, index, seen, description, (change) => edit(index, change))"
            @settled="emit('settled')"
          />
          <label v-if="event.kind === 'set_point_profile'" class="grid gap-1">
            <span
              >Points
              <span class="text-[12px] text-soft">seconds after: set point in {{ pvUnit }}</span></span
            >
            <textarea
              class="entry font-mono text-[13px]"
              rows="4"
              spellcheck="false"
              :value="pointsText(event.points)"
              @change="setProfile(index, ($event.target as HTMLTextAreaElement).value)"
            />
          </label>
        </div>
      </li>
      <li v-if="rows.length === 0" class="py-1 text-soft">Nothing happens yet.</li>
    </ul>
    <label class="grid grid-cols-[minmax(0,1fr)_158px] items-center gap-2">
      Add to the timeline
      <select
        class="entry"
        aria-label="Add to the timeline"
        @change="
          add(($event.target as HTMLSelectElement).value as Event['kind']);
          ($event.target as HTMLSelectElement).value = '';
        "
      >
        <option value="">choose …</option>
        <optgroup v-for="group in kinds" :key="group.group" :label="group.group">
          <option v-for="[kind] in group.kinds" :key="kind" :value="kind">{{ titleOf(kind) }}</option>
        </optgroup>
      </select>
    </label>
    <p class="text-[12px] text-soft">The marks on the strip can be dragged to another time.</p>
    <p v-if="problem || trouble" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
      {{ problem || trouble }}
    </p>
    <FieldList :fields="frame" @settled="emit('settled')" />
  </div>
</template>
