<script setup lang="ts">
/** What a plant measures besides its PV, what drives it besides its OP, and which of its other inputs are measured. */
import { computed, ref } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { rangeIn, whenGiven, type Field } from "../lib/field";
import { choicesOf, readable } from "./events";
import SignalRow from "./SignalRow.vue";
import { readerOf, setTag, type SignalList } from "./loops";

const props = defineProps<{ trial: Trial; description: Schemas["Description"] | null }>();
const emit = defineEmits<{ change: [edit: (trial: Trial) => void, name?: string]; settled: [] }>();

const problem = ref("");
const measured = computed(() => props.trial.plant.further_measured ?? []);
const driven = computed(() => props.trial.plant.further_driven ?? []);
const disturbances = computed(() => props.trial.plant.measured_disturbances ?? []);

/** Outputs and inputs that are not measured or driven yet. */
const outputs = computed(() => {
  const own = props.trial.plant.measured ?? props.description?.outputs[0]?.name;
  const taken = [own, ...measured.value.map((one) => one.output)];
  return (props.description?.outputs ?? []).filter((one) => !taken.includes(one.name));
});
const inputs = computed(() => {
  const own = props.trial.plant.drive?.input ?? props.description?.drive.input;
  const taken = [own, ...driven.value.map((one) => one.input)];
  return (props.description?.inputs ?? []).filter((one) => !taken.includes(one.name));
});

/** Inputs that nobody drives and nobody measures. */
const unmeasured = computed(() => {
  const taken = disturbances.value.map((one) => one.input);
  return inputs.value.filter((one) => !taken.includes(one.name));
});

const DONE = { output: "measured", input: "driven", disturbance: "measured" };

async function add(kind: "output" | "input" | "disturbance", name: string) {
  problem.value = "";
  try {
    const body = { plant: props.trial.plant, [kind]: name };
    const plant = await answered(api.POST("/api/v1/plants/further", { body }));
    emit("change", (trial) => (trial.plant = plant), `with ${readable(name)} ${DONE[kind]}`);
    emit("settled");
  } catch (error) {
    problem.value = messageOf(error);
  }
}

function remove(list: SignalList, k: number, tag: string) {
  const reader = list === "measured_disturbances" ? readerOf(props.trial, tag) : null;
  if (reader) {
    problem.value = `${reader} reads ${tag}: let it read something else first, at Candidate.`;
    return;
  }
  const used = (props.trial.candidate.further ?? []).find(
    (wired) => wired.measures === tag || wired.sets.some((wire) => wire.to === tag),
  );
  if (used) {
    problem.value = `${used.name} works with ${tag}: take that controller out first, at Candidate.`;
    return;
  }
  problem.value = "";
  emit("change", (trial) => trial.plant[list]?.splice(k, 1), `without ${tag}`);
}

/** Span and sensor of what is measured, in either list. */
function fieldsOfMeasured(list: "further_measured" | "measured_disturbances", k: number): Field[] {
  const one = props.trial.plant[list]?.[k];
  if (!one) return [];
  const { unit } = one.span;
  type Own = Pick<Schemas["Measured"], "span" | "sensor">;
  const edit = (how: (own: Own) => void) =>
    emit("change", (trial) => {
      const own = trial.plant[list]?.[k];
      if (own) how(own);
    });
  return [
    {
      key: `low ${k}`,
      label: "Span from",
      unit,
      value: one.span.low,
      set: whenGiven((value) => edit((own) => (own.span.low = value))),
    },
    {
      key: `high ${k}`,
      label: "to",
      unit,
      value: one.span.high,
      set: whenGiven((value) => edit((own) => (own.span.high = value))),
    },
    {
      key: `noise ${k}`,
      label: "Noise of its sensor",
      unit,
      ...rangeIn("SensorSpec", "noise"),
      value: one.sensor?.noise ?? 0,
      set: whenGiven((value) => edit((own) => (own.sensor = { ...own.sensor, noise: value }))),
    },
    {
      key: `dead_time ${k}`,
      label: "Dead time of its sensor",
      unit: "s",
      ...rangeIn("SensorSpec", "dead_time"),
      value: one.sensor?.dead_time ?? 0,
      set: whenGiven((value) => edit((own) => (own.sensor = { ...own.sensor, dead_time: value }))),
    },
    {
      key: `time_constant ${k}`,
      label: "Lag of its sensor",
      unit: "s",
      ...rangeIn("SensorSpec", "time_constant"),
      value: one.sensor?.time_constant ?? 0,
      set: whenGiven((value) => edit((own) => (own.sensor = { ...own.sensor, time_constant: value }))),
    },
  ];
}

function fieldsOfDriven(k: number): Field[] {
  const one = driven.value[k];
  if (!one) return [];
  const unit = props.description?.inputs.find((known) => known.name === one.input)?.unit ?? "";
  const field = (key: "at_0" | "at_100" | "at_start", label: string, of: string): Field => ({
    key: `${key} ${k}`,
    label,
    unit: of,
    ...(key === "at_start" ? rangeIn("Manipulated", "at_start") : {}),
    value: one[key],
    set: whenGiven((value) =>
      emit("change", (trial) => {
        const own = trial.plant.further_driven?.[k];
        if (own) own[key] = value;
      }),
    ),
  });
  return [
    field("at_0", "At 0 %", unit),
    field("at_100", "At 100 %", unit),
    field("at_start", "Stands at the start at", "%"),
  ];
}

/** All of them, as they are drawn. */
const rows = computed(() => [
  ...measured.value.map((one, k) => ({
    list: "further_measured" as const,
    k,
    name: one.output,
    tag: one.tag,
    colour: "pv" as const,
    fields: fieldsOfMeasured("further_measured", k),
  })),
  ...driven.value.map((one, k) => ({
    list: "further_driven" as const,
    k,
    name: one.input,
    tag: one.tag,
    colour: "op" as const,
    fields: fieldsOfDriven(k),
  })),
  ...disturbances.value.map((one, k) => ({
    list: "measured_disturbances" as const,
    k,
    name: one.input,
    tag: one.tag,
    colour: "dv" as const,
    fields: fieldsOfMeasured("measured_disturbances", k),
  })),
]);
</script>

<template>
  <div class="grid gap-[6px]">
    <SignalRow
      v-for="row in rows"
      :key="`${row.list} ${row.k}`"
      :name="readable(row.name)"
      :tag="row.tag"
      :colour="row.colour"
      :fields="row.fields"
      @rename="(tag) => emit('change', (trial) => setTag(trial, row.list, row.k, tag))"
      @remove="remove(row.list, row.k, row.tag)"
      @settled="emit('settled')"
    />
    <ChoiceField
      v-if="outputs.length"
      label="Measure, too"
      model-value=""
      :choices="[{ value: '', title: 'choose …' }, ...choicesOf(outputs)]"
      @update:model-value="(name) => name && add('output', name)"
    />
    <ChoiceField
      v-if="inputs.length"
      label="Drive, too"
      model-value=""
      :choices="[{ value: '', title: 'choose …' }, ...choicesOf(inputs)]"
      @update:model-value="(name) => name && add('input', name)"
    />
    <ChoiceField
      v-if="unmeasured.length"
      label="Measure as a disturbance"
      model-value=""
      :choices="[{ value: '', title: 'choose …' }, ...choicesOf(unmeasured)]"
      @update:model-value="(name) => name && add('disturbance', name)"
    />
    <ProblemNote :text="problem" />
  </div>
</template>
