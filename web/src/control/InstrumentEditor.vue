<script setup lang="ts">
/** The actuator and the sensor of a plant. */
import { computed, ref } from "vue";
import type { Schemas, Trial } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import FieldList from "../components/FieldList.vue";
import { rangeIn, rangeOf, whenGiven, type Field } from "../lib/field";
import { pointsText, readPoints } from "../lib/points";

type Actuator = Schemas["ActuatorSpec"];
type Valve = Extract<Actuator, { kind: "valve" }>;

const props = defineProps<{ trial: Trial; part: "actuator" | "sensor" }>();
const emit = defineEmits<{ change: [edit: (trial: Trial) => void]; settled: [] }>();

const actuator = computed<Actuator>(() => props.trial.plant.actuator ?? { kind: "direct" });
const valve = computed(() => (actuator.value.kind === "valve" ? actuator.value : null));
const unit = computed(() => props.trial.plant.pv.span.unit);

function setValve(edit: (valve: Valve) => void) {
  emit("change", (trial) => {
    if (trial.plant.actuator?.kind === "valve") edit(trial.plant.actuator);
  });
}

function chooseKind(kind: string) {
  const starts: Record<string, Actuator> = {
    direct: { kind: "direct" },
    valve: { kind: "valve", stroke_time: 10 },
    power_stage: { kind: "power_stage", cycle: 0 },
  };
  emit("change", (trial) => (trial.plant.actuator = starts[kind]));
}

function chooseShape(shape: string) {
  const starts: Record<string, Schemas["Characteristic"]> = {
    linear: { shape: "linear" },
    equal_percentage: { shape: "equal_percentage", rangeability: 50 },
    quick_opening: { shape: "quick_opening" },
    table: {
      shape: "table",
      points: [
        [0, 0],
        [50, 30],
        [100, 100],
      ],
    },
  };
  setValve((next) => (next.characteristic = starts[shape]));
}

const characteristic = computed(() => valve.value?.characteristic ?? { shape: "linear" as const });

const tableProblem = ref("");

function setTable(text: string) {
  const points = readPoints(text);
  tableProblem.value = points ? "" : "A table is written as “opening: flow” in %, a point a line.";
  if (points) setValve((next) => (next.characteristic = { shape: "table", points }));
}

const valveFields = computed<Field[]>(() => {
  const spec = valve.value;
  if (!spec) return [];
  const field = (
    key: "authority" | "stroke_time" | "dead_band" | "stick" | "friction" | "leakage",
    label: string,
    fieldUnit: string,
    hint: string,
    usual = 0,
  ): Field => ({
    key,
    label,
    unit: fieldUnit,
    hint,
    ...rangeOf("ValveSpec", key),
    value: spec[key] ?? usual,
    set: whenGiven((value) => setValve((next) => (next[key] = value))),
  });
  const shape = characteristic.value;
  const range: Field[] =
    shape.shape === "equal_percentage"
      ? [
          {
            key: "rangeability",
            label: "Rangeability",
            unit: "",
            min: 1,
            exclusive: true,
            max: 1000,
            value: shape.rangeability,
            set: whenGiven((value) =>
              setValve((next) => (next.characteristic = { shape: "equal_percentage", rangeability: value })),
            ),
          },
        ]
      : [];
  return [
    ...range,
    field("authority", "Authority", "", "1 without line losses", 1),
    field("stroke_time", "Stroke time", "s", "closed to open"),
    {
      key: "rate",
      label: "Rate limit",
      unit: "%/s",
      ...rangeOf("ValveSpec", "rate_limit"),
      whenEmpty: "as the stroke",
      value: spec.rate_limit ?? null,
      set: (value) => setValve((next) => (next.rate_limit = value)),
    },
    field("dead_band", "Dead band", "%", "lost motion on turning"),
    field("stick", "Sticks by", "%", "pull until it breaks loose"),
    field("friction", "Slips short by", "%", "at most what it sticks by"),
    field("leakage", "Leakage", "%", "of full flow, closed"),
  ];
});

const stageFields = computed<Field[]>(() =>
  actuator.value.kind === "power_stage"
    ? [
        {
          key: "cycle",
          label: "Cycle",
          unit: "s",
          hint: "0 sets the power itself",
          ...rangeOf("PowerStageSpec", "cycle"),
          value: actuator.value.cycle ?? 0,
          set: whenGiven((value) =>
            emit("change", (trial) => (trial.plant.actuator = { kind: "power_stage", cycle: value })),
          ),
        },
      ]
    : [],
);

type SensorKey = Exclude<keyof Schemas["SensorSpec"], "damping" | "within_span">;

const sensorFields = computed<Field[]>(() => {
  const spec = props.trial.plant.sensor ?? {};
  const set = (edit: (sensor: Schemas["SensorSpec"]) => void) =>
    emit("change", (trial) => {
      trial.plant.sensor = { ...trial.plant.sensor };
      edit(trial.plant.sensor);
    });
  const field = (key: SensorKey, label: string, fieldUnit: string, limits: Partial<Field> = {}): Field => ({
    key,
    label,
    unit: fieldUnit,
    value: (spec[key] as number | undefined) ?? 0,
    set: whenGiven((value) => set((next) => (next[key] = value))),
    ...rangeIn("SensorSpec", key),
    ...limits,
  });
  return [
    field("noise", "Noise, std. dev.", unit.value),
    field("noise_time_constant", "Colour of the noise", "s", { hint: "0 is white" }),
    field("time_constant", "Lag", "s"),
    {
      key: "damping",
      label: "Damping of the lag",
      unit: "",
      ...rangeOf("SensorSpec", "damping"),
      whenEmpty: "first order",
      value: spec.damping ?? null,
      set: (value) => set((next) => (next.damping = value)),
    },
    field("dead_time", "Dead time", "s"),
    field("filter", "PV filter", "s", { hint: "before the controller" }),
    field("bias", "Bias", unit.value),
    field("drift", "Drift", `${unit.value}/h`),
    field("resolution", "Resolution", unit.value),
    field("drop_out", "Drop-out", "", { hint: "share of the scans" }),
  ];
});
</script>

<template>
  <template v-if="part === 'actuator'">
    <ChoiceField
      label="Actuator"
      :model-value="actuator.kind"
      :choices="[
        { value: 'direct', title: 'none, the OP acts itself' },
        { value: 'valve', title: 'valve' },
        { value: 'power_stage', title: 'heater power stage' },
      ]"
      @update:model-value="chooseKind"
    />
    <template v-if="valve">
      <ChoiceField
        label="Characteristic"
        :model-value="characteristic.shape"
        :choices="[
          { value: 'linear', title: 'linear' },
          { value: 'equal_percentage', title: 'equal percentage' },
          { value: 'quick_opening', title: 'quick opening' },
          { value: 'table', title: 'table' },
        ]"
        @update:model-value="chooseShape"
      />
      <label v-if="characteristic.shape === 'table'" class="grid gap-1">
        <span>Points <span class="text-[12px] text-soft">opening %: flow %, a point a line</span></span>
        <textarea
          class="entry font-mono text-[13px]"
          rows="4"
          spellcheck="false"
          :value="pointsText(characteristic.points)"
          @change="setTable(($event.target as HTMLTextAreaElement).value)"
        />
        <span v-if="tableProblem" class="text-[12.5px] text-limit" role="alert">{{ tableProblem }}</span>
      </label>
      <FieldList :fields="valveFields" @settled="emit('settled')" />
      <ChoiceField
        label="Without supply"
        :model-value="valve.fail_position ?? 'closed'"
        :choices="[
          { value: 'closed', title: 'closes' },
          { value: 'open', title: 'opens' },
          { value: 'stays', title: 'stays' },
        ]"
        @update:model-value="
          (where) => setValve((next) => (next.fail_position = where as Schemas['FailPosition']))
        "
      />
    </template>
    <FieldList :fields="stageFields" @settled="emit('settled')" />
  </template>
  <template v-else>
    <FieldList :fields="sensorFields" @settled="emit('settled')" />
    <label class="flex items-center gap-2">
      <input
        type="checkbox"
        :checked="trial.plant.sensor?.within_span ?? false"
        @change="
          emit(
            'change',
            (next) =>
              (next.plant.sensor = {
                ...next.plant.sensor,
                within_span: ($event.target as HTMLInputElement).checked,
              }),
          )
        "
      />
      shows nothing beyond the ends of its span
    </label>
  </template>
</template>
