<script setup lang="ts">
/** What a loop is called and controls; each refusal stands at its field. */
import { computed } from "vue";
import FieldList from "../components/FieldList.vue";
import TextField from "../components/TextField.vue";
import { whenGiven, type Field } from "../lib/field";
import type { AreaInfo, LoopCard } from "./loops";

const props = defineProps<{
  areas: AreaInfo[];
  /** The field that was refused, and why. */
  field: string;
  problem: string;
  /** Whether the tags of the signals follow the tag of the loop as it is typed. */
  isNew?: boolean;
}>();
const area = defineModel<string>("area", { required: true });
const card = defineModel<LoopCard>("card", { required: true });

const at = (...names: string[]) => (names.includes(props.field) ? props.problem : "");

/** The signals of a new loop are called after it, as long as nobody calls them otherwise. */
function setTag(tag: string) {
  const before = card.value.tag.trim();
  card.value.tag = tag;
  if (!props.isNew) return;
  for (const role of ["pv", "op"] as const) {
    const signal = card.value[role];
    const usual = `${before}.${role.toUpperCase()}`;
    if (signal.tag === "" || signal.tag === usual)
      signal.tag = tag.trim() ? `${tag.trim()}.${role.toUpperCase()}` : "";
  }
}

function spanFields(role: "pv" | "op"): Field[] {
  const { span } = card.value[role];
  return (["low", "high"] as const).map((end) => ({
    key: `${role}.span.${end}`,
    label: end === "low" ? "Lower range value" : "Upper range value",
    unit: span.unit,
    range: end === "high" ? `above ${span.low}` : "",
    problem: at(`${role}.span.${end}`),
    value: span[end],
    set: whenGiven((value) => (card.value[role].span[end] = value)),
  }));
}
const signals = computed(() => [
  { role: "pv" as const, title: "Process variable (PV)", fields: spanFields("pv") },
  { role: "op" as const, title: "Controller output (OP)", fields: spanFields("op") },
]);
</script>

<template>
  <div class="grid grid-cols-2 gap-x-5 gap-y-3 max-[700px]:grid-cols-1">
    <TextField
      :model-value="card.tag"
      label="Tag of the loop"
      placeholder="TIC-101"
      :most="40"
      :problem="at('tag')"
      @update:model-value="setTag"
    />
    <TextField v-model="card.name" label="Name" placeholder="preheater outlet" :problem="at('name')" />
    <div>
      <TextField v-model="area" label="Area" list="areas" :most="80" :problem="at('area')" />
      <datalist id="areas"><option v-for="known in areas" :key="known.id" :value="known.name" /></datalist>
    </div>
    <TextField
      v-model="card.difficulty"
      label="What is hard about it"
      :most="300"
      :problem="at('difficulty')"
    />
    <fieldset v-for="signal in signals" :key="signal.role" class="grid content-start gap-2">
      <legend class="mb-1 font-semibold">{{ signal.title }}</legend>
      <TextField
        v-model="card[signal.role].tag"
        :label="`Tag of the ${signal.role.toUpperCase()}`"
        :most="80"
        :problem="at(`${signal.role}.tag`)"
      />
      <TextField
        v-model="card[signal.role].span.unit"
        :label="`Unit of the ${signal.role.toUpperCase()}`"
        :most="24"
        :problem="at(`${signal.role}.span.unit`)"
      />
      <FieldList :fields="signal.fields" />
    </fieldset>
    <TextField
      v-model="card.notes"
      class="col-span-2 max-[700px]:col-span-1"
      label="Notes"
      :lines="3"
      :most="10000"
      :problem="at('notes')"
    />
  </div>
</template>
