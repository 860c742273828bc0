<script setup lang="ts">
/** A further controller of a candidate: what it measures, what it sets, its settings. */
import { computed } from "vue";
import type { Schemas, Trial } from "../api/client";
import type { Pid } from "../control/controllers";
import {
  measuredOf,
  measuredTags,
  settableTags,
  signalTags,
  wiredOf,
  wiresOf,
  type Wired,
} from "../control/loops";
import { whenGiven, type Field } from "../lib/field";
import ChoiceField from "./ChoiceField.vue";
import FieldList from "./FieldList.vue";
import PidFields from "./PidFields.vue";

const props = defineProps<{ trial: Trial; of: string; description: Schemas["Description"] | null }>();
const emit = defineEmits<{
  change: [edit: (trial: Trial) => void, name?: string];
  settled: [];
  gone: [];
}>();

const wired = computed(() => wiredOf(props.trial, props.of));
const wires = computed(() => wiresOf(props.trial, props.of));
const signals = computed(() => [{ name: "load", unit: "%" }, ...signalTags(props.trial)]);

function edit(how: (wired: Wired) => void) {
  emit("change", (trial) => {
    const own = wiredOf(trial, props.of);
    if (own) how(own);
  });
}

function editPid(how: (pid: Pid) => void) {
  edit((own) => own.controller.kind === "pid" && how(own.controller));
}

const ranges = computed<Field[]>(() =>
  wires.value.flatMap((wire, k) =>
    wires.value.length > 1 || wire.range
      ? (["0 %", "100 %"] as const).map((end, place) => ({
          key: `range ${k} ${place}`,
          label: `${wire.to} stands at ${end} at`,
          unit: "%",
          min: 0,
          max: 100,
          value: wire.range?.[place] ?? (place ? 100 : 0),
          set: whenGiven((value) =>
            edit((own) => {
              const range: [number, number] = [wire.range?.[0] ?? 0, wire.range?.[1] ?? 100];
              range[place] = value;
              const target = own.sets[k];
              if (target) target.range = range;
            }),
          ),
        }))
      : [],
  ),
);

function setTarget(k: number, to: string) {
  edit((own) => {
    const wire = own.sets[k];
    if (wire) wire.to = to;
  });
}

function setSelect(k: number, select: string) {
  edit((own) => {
    const wire = own.sets[k];
    if (wire) wire.select = select ? (select as Schemas["Select"]) : undefined;
  });
}

function remove() {
  emit(
    "change",
    (trial) => {
      trial.candidate.further = trial.candidate.further?.filter((own) => own.name !== props.of);
      const events = Object.entries(trial.scenario.further ?? {}).filter(([name]) => name !== props.of);
      trial.scenario.further = Object.fromEntries(events);
      // What it set is set by nobody now: wires to its set point lead nowhere.
      trial.candidate.sets = trial.candidate.sets?.filter((wire) => wire.to !== `${props.of}.SP`);
    },
    `without ${props.of}`,
  );
  emit("gone");
}
</script>

<template>
  <div v-if="wired" class="grid gap-[6px]">
    <ChoiceField
      label="Measures"
      :model-value="wired.measures"
      :choices="measuredTags(trial).map((tag) => ({ value: tag, title: tag }))"
      @update:model-value="(tag) => edit((own) => (own.measures = tag))"
    />
    <template v-for="(wire, k) in wires" :key="k">
      <ChoiceField
        label="Sets"
        :model-value="wire.to"
        :choices="settableTags(trial, of).map((tag) => ({ value: tag, title: tag }))"
        @update:model-value="setTarget(k, $event)"
      />
      <ChoiceField
        label="where others set it, too"
        :model-value="wire.select ?? ''"
        :choices="[
          { value: '', title: 'the usual one' },
          { value: 'lowest', title: 'the lowest is taken' },
          { value: 'highest', title: 'the highest is taken' },
        ]"
        @update:model-value="setSelect(k, $event)"
      />
    </template>
    <FieldList :fields="ranges" @settled="emit('settled')" />
    <PidFields
      v-if="wired.controller.kind === 'pid'"
      :pid="wired.controller"
      :span="measuredOf(trial, of).span"
      :signals="signals"
      @edit="editPid"
      @settled="emit('settled')"
    />
    <p v-else-if="wired.controller.kind === 'seat'" class="text-soft">
      A seat of the predictive controller: what it measures and sets here is controlled by that, and set up
      there. In manual what it sets takes no part.
    </p>
    <p v-else class="text-soft">In manual: its output stands where it is.</p>
    <label class="flex items-center gap-2">
      <input
        type="checkbox"
        :checked="wired.set_point_tracking ?? false"
        @change="
          (event) => edit((own) => (own.set_point_tracking = (event.target as HTMLInputElement).checked))
        "
      />
      set point follows the PV in manual
    </label>
    <button type="button" class="button justify-self-start !py-0" @click="remove">
      Take this controller out
    </button>
  </div>
</template>
