<script setup lang="ts">
/** What can be set of a trial: the important few in sight, the rest one disclosure away. */
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/vue";
import { computed } from "vue";
import type { Schemas, Trial } from "../api/client";
import { duration, number } from "../lib/format";
import NumberField from "./NumberField.vue";

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

function setPid(edit: (pid: Pid) => void) {
  emit("change", (trial) => edit(trial.candidate.controller as Pid));
}

function eventOf(kind: EventKind) {
  return props.trial.scenario.events.find((event) => event.kind === kind);
}

function setEvent(kind: EventKind, part: "at" | "by", value: number | null) {
  if (value === null) return;
  emit("change", (trial) => {
    const event = trial.scenario.events.find((known) => known.kind === kind);
    if (event) event[part] = value;
  });
}

function setLimit(end: "low" | "high", value: number | null) {
  if (value !== null) setPid((settings) => (settings.output_limits = { ...limits.value, [end]: value }));
}

function setScenario(part: "scan" | "duration" | "seed", value: number | null) {
  if (value !== null) emit("change", (trial) => (trial.scenario[part] = value));
}

const controllerRest = computed(() => {
  const tracking = pid.value.tracking_time ? duration(pid.value.tracking_time) : "by itself";
  return `limits ${number(limits.value.low)} to ${number(limits.value.high)} % · set point weight ${number(pid.value.set_point_weight)} · ${pid.value.action ?? "reverse"} · tracking ${tracking}`;
});
const scenarioRest = computed(() => {
  const [step, load] = [eventOf("set_point_step"), eventOf("load_step")];
  return `step ${number(step?.by)} ${unit.value} · load ${number(load?.by)} % · ${duration(props.trial.scenario.duration)} · scan ${number(props.trial.scenario.scan)} s · noise ${number(props.trial.plant.sensor?.noise ?? 0)} ${unit.value}`;
});
</script>

<template>
  <div class="grid gap-[6px]">
    <NumberField
      label="Closed-loop τc"
      unit="s"
      range="SIMC"
      :min="0"
      exclusive
      by-ratio
      :model-value="closedLoopTimeConstant"
      @update:model-value="$event !== null && emit('tune', $event)"
      @settled="emit('settled')"
    />
    <NumberField
      label="Gain"
      unit="%/%"
      :min="0"
      exclusive
      by-ratio
      :model-value="pid.gain"
      @update:model-value="$event !== null && setPid((p) => (p.gain = $event as number))"
      @settled="emit('settled')"
    />
    <NumberField
      label="Integral time"
      unit="s"
      :min="0"
      exclusive
      when-empty="off"
      by-ratio
      :model-value="pid.integral_time ?? null"
      @update:model-value="setPid((p) => (p.integral_time = $event))"
      @settled="emit('settled')"
    />
    <NumberField
      label="Derivative time"
      unit="s"
      :min="0"
      by-ratio
      :model-value="pid.derivative_time ?? 0"
      @update:model-value="$event !== null && setPid((p) => (p.derivative_time = $event as number))"
      @settled="emit('settled')"
    />

    <Disclosure v-slot="{ open }">
      <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
        <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Controller: {{ controllerRest }}
      </DisclosureButton>
      <DisclosurePanel class="grid gap-[6px] pb-1">
        <NumberField
          label="Set point weight"
          unit=""
          :min="0"
          :max="1"
          :model-value="pid.set_point_weight ?? 1"
          @update:model-value="$event !== null && setPid((p) => (p.set_point_weight = $event as number))"
          @settled="emit('settled')"
        />
        <NumberField
          label="Low limit"
          unit="%"
          :range="`below ${limits.high}`"
          :model-value="limits.low"
          @update:model-value="setLimit('low', $event)"
          @settled="emit('settled')"
        />
        <NumberField
          label="High limit"
          unit="%"
          :range="`above ${limits.low}`"
          :model-value="limits.high"
          @update:model-value="setLimit('high', $event)"
          @settled="emit('settled')"
        />
        <NumberField
          label="Derivative filter N"
          unit=""
          :min="1"
          :max="100"
          :model-value="pid.derivative_filter ?? 10"
          @update:model-value="$event !== null && setPid((p) => (p.derivative_filter = $event as number))"
          @settled="emit('settled')"
        />
        <NumberField
          label="Tracking time"
          unit="s"
          :min="0"
          exclusive
          when-empty="by itself"
          :model-value="pid.tracking_time ?? null"
          @update:model-value="setPid((p) => (p.tracking_time = $event))"
          @settled="emit('settled')"
        />
        <label class="grid grid-cols-[1fr_158px] items-center gap-2">
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

    <Disclosure v-slot="{ open }">
      <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
        <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Scenario: {{ scenarioRest }}
      </DisclosureButton>
      <DisclosurePanel class="grid gap-[6px] pb-1">
        <NumberField
          label="Set point step"
          :unit="unit"
          :model-value="eventOf('set_point_step')?.by ?? null"
          @update:model-value="setEvent('set_point_step', 'by', $event)"
          @settled="emit('settled')"
        />
        <NumberField
          label="… at"
          unit="s"
          :min="0"
          :max="trial.scenario.duration"
          :model-value="eventOf('set_point_step')?.at ?? null"
          @update:model-value="setEvent('set_point_step', 'at', $event)"
          @settled="emit('settled')"
        />
        <NumberField
          label="Load step"
          unit="% OP"
          :model-value="eventOf('load_step')?.by ?? null"
          @update:model-value="setEvent('load_step', 'by', $event)"
          @settled="emit('settled')"
        />
        <NumberField
          label="… at"
          unit="s"
          :min="0"
          :max="trial.scenario.duration"
          :model-value="eventOf('load_step')?.at ?? null"
          @update:model-value="setEvent('load_step', 'at', $event)"
          @settled="emit('settled')"
        />
        <NumberField
          label="Duration"
          unit="s"
          :min="0"
          exclusive
          :model-value="trial.scenario.duration"
          @update:model-value="setScenario('duration', $event)"
          @settled="emit('settled')"
        />
        <NumberField
          label="Scan"
          unit="s"
          :min="0"
          exclusive
          :model-value="trial.scenario.scan"
          @update:model-value="setScenario('scan', $event)"
          @settled="emit('settled')"
        />
        <NumberField
          label="Noise of the PV"
          :unit="unit"
          :min="0"
          :model-value="trial.plant.sensor?.noise ?? 0"
          @update:model-value="
            $event !== null && emit('change', (t) => (t.plant.sensor = { noise: $event as number }))
          "
          @settled="emit('settled')"
        />
      </DisclosurePanel>
    </Disclosure>
  </div>
</template>
