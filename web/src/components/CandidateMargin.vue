<script setup lang="ts">
/** What can be set of a candidate: the important few in sight, the rest one disclosure away. */
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/vue";
import { computed } from "vue";
import type { Schemas, Trial } from "../api/client";
import { whenGiven, type Field } from "../lib/field";
import { duration, number } from "../lib/format";
import ChoiceField from "./ChoiceField.vue";
import FieldList from "./FieldList.vue";

type Pid = Extract<Schemas["ControllerSpec"], { kind: "pid" }>;

const props = defineProps<{ trial: Trial; closedLoopTimeConstant: number | null }>();
const emit = defineEmits<{
  change: [edit: (trial: Trial) => void];
  tune: [timeConstant: number];
  settled: [];
}>();

const pid = computed(() => props.trial.candidate.controller as Pid);
const limits = computed(() => pid.value.output_limits ?? { low: 0, high: 100 });

function setPid(edit: (pid: Pid) => void) {
  emit("change", (trial) => edit(trial.candidate.controller as Pid));
}

function limitField(end: "low" | "high", label: string, range: string): Field {
  const set = (value: number) =>
    setPid((settings) => (settings.output_limits = { ...limits.value, [end]: value }));
  return { key: end, label, unit: "%", range, value: limits.value[end], set: whenGiven(set) };
}

const few = computed<Field[]>(() => [
  {
    key: "tau",
    label: "Closed-loop τc",
    unit: "s",
    range: "SIMC",
    whenEmpty: "by hand",
    min: 0,
    exclusive: true,
    byRatio: true,
    value: props.closedLoopTimeConstant,
    set: whenGiven((value) => emit("tune", value)),
  },
  {
    key: "gain",
    label: "Gain",
    unit: "%/%",
    min: 0,
    exclusive: true,
    byRatio: true,
    value: pid.value.gain,
    set: whenGiven((value) => setPid((settings) => (settings.gain = value))),
  },
  {
    key: "integral",
    label: "Integral time",
    unit: "s",
    min: 0,
    exclusive: true,
    byRatio: true,
    whenEmpty: "off",
    value: pid.value.integral_time ?? null,
    set: (value) => setPid((settings) => (settings.integral_time = value)),
  },
  {
    key: "derivative",
    label: "Derivative time",
    unit: "s",
    min: 0,
    byRatio: true,
    value: pid.value.derivative_time ?? 0,
    set: whenGiven((value) => setPid((settings) => (settings.derivative_time = value))),
  },
]);

const controllerRest = computed<Field[]>(() => [
  {
    key: "weight",
    label: "Set point weight",
    unit: "",
    min: 0,
    max: 1,
    value: pid.value.set_point_weight ?? 1,
    set: whenGiven((value) => setPid((settings) => (settings.set_point_weight = value))),
  },
  limitField("low", "Low limit", `below ${limits.value.high}`),
  limitField("high", "High limit", `above ${limits.value.low}`),
  {
    key: "filter",
    label: "Derivative filter N",
    unit: "",
    min: 1,
    max: 100,
    value: pid.value.derivative_filter ?? 10,
    set: whenGiven((value) => setPid((settings) => (settings.derivative_filter = value))),
  },
  {
    key: "tracking",
    label: "Tracking time",
    unit: "s",
    min: 0,
    exclusive: true,
    whenEmpty: "by itself",
    value: pid.value.tracking_time ?? null,
    set: (value) => setPid((settings) => (settings.tracking_time = value)),
  },
]);

const summary = computed(() => [
  `limits ${number(limits.value.low)} to ${number(limits.value.high)} %`,
  `set point weight ${number(pid.value.set_point_weight ?? 1)}`,
  pid.value.action ?? "reverse",
  `tracking ${pid.value.tracking_time ? duration(pid.value.tracking_time) : "by itself"}`,
]);

const isPid = computed(() => props.trial.candidate.controller.kind === "pid");
let lastPid: Pid | null = null;

/** From control to a fixed output and back, with the settings as they were. */
function chooseKind(kind: string) {
  if (isPid.value) lastPid = pid.value;
  emit("change", (trial) => {
    trial.candidate.controller =
      kind === "manual" ? { kind: "manual" } : (lastPid ?? { kind: "pid", gain: 1, integral_time: 60 });
  });
}
</script>

<template>
  <div class="grid gap-[6px]">
    <ChoiceField
      label="Controller"
      :model-value="trial.candidate.controller.kind"
      :choices="[
        { value: 'pid', title: 'PID' },
        { value: 'manual', title: 'manual' },
      ]"
      @update:model-value="chooseKind"
    />
    <template v-if="isPid">
      <FieldList :fields="few" @settled="emit('settled')" />
      <Disclosure v-slot="{ open }">
        <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
          <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Controller: {{ summary.join(" · ") }}
        </DisclosureButton>
        <DisclosurePanel class="grid gap-[6px] pb-1">
          <FieldList :fields="controllerRest" @settled="emit('settled')" />
          <ChoiceField
            label="Action"
            :model-value="pid.action ?? 'reverse'"
            :choices="[
              { value: 'reverse', title: 'reverse' },
              { value: 'direct', title: 'direct' },
            ]"
            @update:model-value="(action) => setPid((p) => (p.action = action as 'reverse' | 'direct'))"
          />
        </DisclosurePanel>
      </Disclosure>
    </template>
    <p v-else class="text-soft">The output stands where it is; operator moves in the scenario shift it.</p>
  </div>
</template>
