<script setup lang="ts">
/** An experiment planned from what is roughly known: what is set, and what is to be expected. */
import { computed } from "vue";
import type { ModelRow, Schemas } from "../api/client";
import FieldList from "../components/FieldList.vue";
import VerdictNote from "../components/VerdictNote.vue";
import XyPlot from "../components/XyPlot.vue";
import { rangeOf, whenGiven, type Field } from "../lib/field";
import { duration, number } from "../lib/format";
import { inWords } from "../lib/structures";
import type { Line } from "../lib/xy";
import { plain } from "../lib/plain";
import PlanTelling from "./PlanTelling.vue";

type Spec = Schemas["ExperimentSpec"];

const props = defineProps<{
  plan: Schemas["ExperimentPlan"] | null;
  problem: string;
  hasPlant: boolean;
  running: boolean;
  tag: string;
  /** The physical models of the loop. */
  physical: ModelRow[];
}>();
const spec = defineModel<Spec>({ required: true });
const emit = defineEmits<{ run: []; save: [] }>();

const signals: [Spec["signal"]["kind"], string][] = [
  ["step", "step"],
  ["doublet", "doublet (up, down, back)"],
  ["staircase", "staircase"],
  ["prbs", "PRBS"],
  ["generalised_binary_noise", "generalised binary noise"],
  ["multisine", "multisine"],
];

function edit(change: (draft: Spec) => void) {
  const next = plain(spec.value) as Spec;
  change(next);
  spec.value = next;
}

function chooseSignal(kind: string) {
  const starts: Record<string, Spec["signal"]> = {
    step: { kind: "step" },
    doublet: { kind: "doublet", width: null },
    staircase: { kind: "staircase", levels: 4 },
    prbs: { kind: "prbs", clock: null },
    generalised_binary_noise: { kind: "generalised_binary_noise", mean_switching_time: null },
    multisine: { kind: "multisine", lines: 12 },
  };
  edit((draft) => (draft.signal = starts[kind] ?? { kind: "step" }));
}

type Process = Extract<Spec["process"], { structure: "fopdt" | "integrating" }>;
const process = computed(() => spec.value.process as Process);
const integrates = computed(() => process.value.structure === "integrating");

/** What was proposed and is typed now is no longer a proposal. */
function type(part: Schemas["Proposed"], change: (draft: Spec) => void) {
  edit((draft) => {
    change(draft);
    draft.proposed = draft.proposed?.filter((known) => known !== part);
  });
}
const isProposed = (part: Schemas["Proposed"]) => spec.value.proposed?.includes(part) ?? false;

function chooseProcess(structure: string) {
  const { gain, dead_time } = process.value;
  // A gain per second out of one at rest, or the other way round, by a minute.
  type("process", (draft) => {
    draft.process =
      structure === "integrating"
        ? { structure: "integrating", gain: gain / 60, dead_time }
        : { structure: "fopdt", gain: gain * 60, time_constant: 60, dead_time };
  });
}

const known = computed<Field[]>(() => {
  const { gain, dead_time } = process.value;
  const set = (key: "gain" | "time_constant" | "dead_time") =>
    whenGiven((value) => type("process", (draft) => Object.assign(draft.process, { [key]: value })));
  const unit = spec.value.pv_unit ?? "";
  const time_constant = process.value.structure === "fopdt" ? process.value.time_constant : null;
  return [
    {
      key: "gain",
      label: ifProposed("process", "Gain, roughly"),
      unit: integrates.value ? `${unit}/(% s)` : `${unit}/%`,
      value: gain,
      set: set("gain"),
    },
    ...(time_constant === null
      ? []
      : [
          {
            key: "tau",
            label: ifProposed("process", "Time constant"),
            unit: "s",
            value: time_constant,
            set: set("time_constant"),
            min: 0,
            exclusive: true,
          },
        ]),
    {
      key: "theta",
      label: ifProposed("process", "Dead time"),
      unit: "s",
      value: dead_time,
      set: set("dead_time"),
      min: 0,
    },
  ];
});

/** Where it rests, and how it trembles there. */
const atRest = computed<Field[]>(() => {
  const rests = (key: "pv" | "op") =>
    whenGiven((value) => type("operating_point", (draft) => (draft.operating_point[key] = value)));
  const unit = spec.value.pv_unit ?? "";
  return [
    {
      key: "pvrest",
      label: ifProposed("operating_point", "PV rests at"),
      unit,
      value: spec.value.operating_point.pv,
      set: rests("pv"),
    },
    {
      key: "oprest",
      label: ifProposed("operating_point", "OP stands at"),
      unit: "%",
      value: spec.value.operating_point.op,
      set: rests("op"),
      min: 0,
      max: 100,
    },
    {
      key: "noise",
      label: ifProposed("noise", "Noise, std. dev."),
      unit,
      value: spec.value.noise,
      set: whenGiven((v) => type("noise", (d) => (d.noise = v))),
      ...rangeOf("ExperimentSpec", "noise"),
    },
  ];
});

const ifProposed = (part: Schemas["Proposed"], label: string) =>
  isProposed(part) ? `${label} (proposed)` : label;

const allowed = computed<Field[]>(() => {
  const { pv_range, op_range, op_rate, duration, sample_time, amplitude } = spec.value;
  const end = (name: "pv_range" | "op_range", index: 0 | 1) =>
    whenGiven((value) => {
      const change = (draft: Spec) => ((draft[name] as number[])[index] = value);
      if (name === "pv_range") type("pv_range", change);
      else edit(change);
    });
  const unit = spec.value.pv_unit ?? "";
  return [
    { key: "pvlow", label: "PV no lower than", unit, value: pv_range[0] ?? null, set: end("pv_range", 0) },
    { key: "pvhigh", label: "PV no higher than", unit, value: pv_range[1] ?? null, set: end("pv_range", 1) },
    {
      key: "oplow",
      label: "OP no lower than",
      unit: "%",
      value: op_range[0] ?? null,
      set: end("op_range", 0),
      min: 0,
      max: 100,
    },
    {
      key: "ophigh",
      label: "OP no higher than",
      unit: "%",
      value: op_range[1] ?? null,
      set: end("op_range", 1),
      min: 0,
      max: 100,
    },
    {
      key: "rate",
      label: "OP no faster than",
      unit: "%/s",
      value: op_rate ?? null,
      set: (v) => edit((d) => (d.op_rate = v)),
      ...rangeOf("ExperimentSpec", "op_rate"),
      whenEmpty: "at once",
    },
    {
      key: "duration",
      label: "Time for it",
      unit: "s",
      value: duration,
      set: whenGiven((v) => edit((d) => (d.duration = v))),
      ...rangeOf("ExperimentSpec", "duration"),
    },
    {
      key: "ts",
      label: "Sample time",
      unit: "s",
      value: sample_time,
      set: whenGiven((v) => edit((d) => (d.sample_time = v))),
      ...rangeOf("ExperimentSpec", "sample_time"),
    },
    {
      key: "amplitude",
      label: "Amplitude",
      unit: "%",
      value: amplitude ?? null,
      set: (v) => edit((d) => (d.amplitude = v)),
      ...rangeOf("ExperimentSpec", "amplitude"),
      whenEmpty: "largest",
    },
  ];
});

const own = computed<Field[]>(() => {
  const signal = spec.value.signal;
  const set = (key: string) => (value: number | null) =>
    edit((draft) => Object.assign(draft.signal, { [key]: value }));
  switch (signal.kind) {
    case "doublet":
      return [
        {
          key: "width",
          label: "Each half",
          unit: "s",
          value: signal.width ?? null,
          set: set("width"),
          whenEmpty: "a third",
        },
      ];
    case "staircase":
      return [
        {
          key: "levels",
          label: "Steps up",
          unit: "",
          value: signal.levels,
          set: whenGiven(set("levels")),
          min: 1,
          max: 20,
        },
      ];
    case "prbs":
      return [
        {
          key: "clock",
          label: "Clock",
          unit: "s",
          value: signal.clock ?? null,
          set: set("clock"),
          whenEmpty: "τ/4",
        },
      ];
    case "generalised_binary_noise":
      return [
        {
          key: "mean",
          label: "Mean switching time",
          unit: "s",
          value: signal.mean_switching_time ?? null,
          set: set("mean_switching_time"),
          whenEmpty: "a third",
        },
      ];
    case "multisine":
      return [
        {
          key: "lines",
          label: "Sines",
          unit: "",
          value: signal.lines,
          set: whenGiven(set("lines")),
          min: 2,
          max: 100,
        },
      ];
    default:
      return [];
  }
});

const spectrum = computed<Line[]>(() => {
  const plan = props.plan;
  return plan ? [{ x: plan.spectrum_omegas, y: plan.spectrum, colour: "--op", kind: "bars" }] : [];
});
</script>

<template>
  <label class="mb-2 grid grid-cols-[1fr_200px] items-center gap-2">
    Signal
    <select
      class="entry"
      :value="spec.signal.kind"
      @change="chooseSignal(($event.target as HTMLSelectElement).value)"
    >
      <option v-for="[kind, words] in signals" :key="kind" :value="kind">{{ words }}</option>
    </select>
  </label>
  <label class="mb-2 grid grid-cols-[1fr_200px] items-center gap-2">
    Process
    <select
      class="entry"
      :value="process.structure"
      @change="chooseProcess(($event.target as HTMLSelectElement).value)"
    >
      <option value="fopdt">settles, first order</option>
      <option value="integrating">integrates</option>
    </select>
  </label>
  <div class="grid gap-[5px]">
    <FieldList :fields="own" />
    <FieldList :fields="known" />
    <details class="mt-1">
      <summary class="cursor-pointer text-soft">
        {{ isProposed("operating_point") ? "Proposed rest" : "At rest" }}: {{ spec.operating_point.pv }}
        {{ spec.pv_unit }} at {{ spec.operating_point.op }} %, noise {{ spec.noise }} {{ spec.pv_unit }}
      </summary>
      <div class="mt-1 grid gap-[5px]"><FieldList :fields="atRest" /></div>
    </details>
    <details class="mt-1">
      <summary class="cursor-pointer text-soft">
        {{ isProposed("pv_range") ? "Proposed" : "Allowed" }}: PV {{ spec.pv_range[0] }} to
        {{ spec.pv_range[1] }} {{ spec.pv_unit }}, OP {{ spec.op_range[0] }} to {{ spec.op_range[1] }} %,
        {{ duration(spec.duration) }}
      </summary>
      <div class="mt-1 grid gap-[5px]"><FieldList :fields="allowed" /></div>
    </details>
  </div>
  <p v-if="problem" class="mt-2 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
    {{ problem }}
  </p>
  <template v-if="plan">
    <p class="mt-3">
      Amplitude <strong class="font-semibold">±{{ number(plan.amplitude) }} %</strong> about
      {{ number(spec.operating_point.op) }} %
    </p>
    <div class="mt-2 grid gap-2">
      <VerdictNote v-for="verdict in plan.verdicts" :key="verdict.text" :verdict="verdict" />
    </div>
    <table class="mt-3 w-full" aria-label="Expected errors">
      <thead class="text-[12px] text-soft">
        <tr>
          <th class="text-left font-normal">expected of a fit</th>
          <th class="text-right font-normal">± std. error</th>
          <th class="pl-2 text-left font-normal">unit</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in plan.expected" :key="row.name" class="border-t border-rule">
          <td class="py-[2px]">{{ inWords(row.name) }} {{ number(row.value) }}</td>
          <td class="text-right font-semibold">{{ number(row.standard_error, 2) }}</td>
          <td class="pl-2 text-soft">{{ row.unit }}</td>
        </tr>
      </tbody>
    </table>
    <PlanTelling v-if="physical.length" :tag="tag" :models="physical" :spec="spec" />
    <div class="mt-2 h-[170px]">
      <XyPlot
        :lines="spectrum"
        title="OP power"
        y-title="%"
        x-title="rad/s"
        log-x
        :marks="[{ x: plan.corner_frequency, label: integrates ? '1/θ' : '1/τ' }]"
      />
    </div>
    <div class="mt-3 flex flex-wrap gap-2">
      <button
        type="button"
        class="button button-main"
        :disabled="!hasPlant || running"
        :title="hasPlant ? '' : 'No simulated plant stands behind this loop'"
        @click="emit('run')"
      >
        {{ running ? "Running …" : "Run on the simulated plant" }}
      </button>
      <button type="button" class="button" @click="emit('save')">Save as CSV</button>
    </div>
  </template>
</template>
