<script setup lang="ts">
/** What can be set of a trial: the important few in sight, the rest one disclosure away. */
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/vue";
import { computed } from "vue";
import type { Schemas, Trial } from "../api/client";
import { whenGiven, type Field } from "../lib/field";
import { duration, number } from "../lib/format";
import FieldList from "./FieldList.vue";

type Pid = Extract<Schemas["ControllerSpec"], { kind: "pid" }>;
type EventKind = "set_point_step" | "load_step";

const props = defineProps<{ trial: Trial; closedLoopTimeConstant: number | null }>();
const emit = defineEmits<{
  change: [edit: (trial: Trial) => void];
  tune: [timeConstant: number];
  settled: [];
}>();

const pid = computed(() => props.trial.candidate.controller as Pid);
const unit = computed(() => props.trial.plant.pv.span.unit);
const limits = computed(() => pid.value.output_limits ?? { low: 0, high: 100 });
const noise = computed(() => props.trial.plant.sensor?.noise ?? 0);

function setPid(edit: (pid: Pid) => void) {
  emit("change", (trial) => edit(trial.candidate.controller as Pid));
}

function eventOf(kind: EventKind) {
  return props.trial.scenario.events.find((event) => event.kind === kind);
}

function eventField(kind: EventKind, part: "at" | "by", label: string, fieldUnit: string): Field {
  const isTime = part === "at";
  return {
    key: `${kind} ${part}`,
    label,
    unit: fieldUnit,
    value: eventOf(kind)?.[part] ?? null,
    min: isTime ? 0 : undefined,
    max: isTime ? props.trial.scenario.duration : undefined,
    set: whenGiven((value) =>
      emit("change", (trial) => {
        const event = trial.scenario.events.find((known) => known.kind === kind);
        if (event) event[part] = value;
      }),
    ),
  };
}

function limitField(end: "low" | "high", label: string, range: string): Field {
  const set = (value: number) =>
    setPid((settings) => (settings.output_limits = { ...limits.value, [end]: value }));
  return { key: end, label, unit: "%", range, value: limits.value[end], set: whenGiven(set) };
}

function scenarioField(part: "scan" | "duration", label: string): Field {
  const set = (value: number) => emit("change", (trial) => (trial.scenario[part] = value));
  const value = props.trial.scenario[part];
  return { key: part, label, unit: "s", min: 0, exclusive: true, value, set: whenGiven(set) };
}

const few = computed<Field[]>(() => [
  {
    key: "tau",
    label: "Closed-loop τc",
    unit: "s",
    range: "SIMC",
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

const scenarioRest = computed<Field[]>(() => [
  eventField("set_point_step", "by", "Set point step", unit.value),
  eventField("set_point_step", "at", "Set point at", "s"),
  eventField("load_step", "by", "Load step", "% OP"),
  eventField("load_step", "at", "Load at", "s"),
  scenarioField("duration", "Duration"),
  scenarioField("scan", "Scan"),
  {
    key: "noise",
    label: "Noise of the PV",
    unit: unit.value,
    min: 0,
    value: noise.value,
    set: whenGiven((value) => emit("change", (trial) => (trial.plant.sensor = { noise: value }))),
  },
]);

const sections = computed(() => {
  const { scenario } = props.trial;
  const tracking = pid.value.tracking_time ? duration(pid.value.tracking_time) : "by itself";
  return [
    {
      name: "Controller",
      fields: controllerRest.value,
      summary: [
        `limits ${number(limits.value.low)} to ${number(limits.value.high)} %`,
        `set point weight ${number(pid.value.set_point_weight)}`,
        pid.value.action ?? "reverse",
        `tracking ${tracking}`,
      ],
    },
    {
      name: "Scenario",
      fields: scenarioRest.value,
      summary: [
        `step ${number(eventOf("set_point_step")?.by)} ${unit.value}`,
        `load ${number(eventOf("load_step")?.by)} %`,
        duration(scenario.duration),
        `scan ${number(scenario.scan)} s`,
        `noise ${number(noise.value)} ${unit.value}`,
      ],
    },
  ];
});
</script>

<template>
  <div class="grid gap-[6px]">
    <FieldList :fields="few" @settled="emit('settled')" />
    <Disclosure v-for="section in sections" :key="section.name" v-slot="{ open }">
      <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
        <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> {{ section.name }}:
        {{ section.summary.join(" · ") }}
      </DisclosureButton>
      <DisclosurePanel class="grid gap-[6px] pb-1">
        <FieldList :fields="section.fields" @settled="emit('settled')" />
        <label v-if="section.name === 'Controller'" class="grid grid-cols-[1fr_158px] items-center gap-2">
          Action
          <select
            class="entry"
            :value="pid.action ?? 'reverse'"
            @change="
              setPid((p) => (p.action = ($event.target as HTMLSelectElement).value as 'reverse' | 'direct'))
            "
          >
            <option value="reverse">reverse</option>
            <option value="direct">direct</option>
          </select>
        </label>
      </DisclosurePanel>
    </Disclosure>
  </div>
</template>
