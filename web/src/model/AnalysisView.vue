<script setup lang="ts">
/** What a model says of the process and what it leaves, in place of the strip; a pinned model is laid under it. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type ModelRow, type Schemas } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import XyPlot from "../components/XyPlot.vue";
import { letter, number } from "../lib/format";
import { inWords } from "../lib/structures";
import type { Line } from "../lib/xy";
import { analysisOf, failureOf } from "./useAnalysis";
import { comebacks } from "../lib/live";

const props = defineProps<{
  view: string;
  model: ModelRow;
  pinned: ModelRow | null;
  /** The output that is looked at; the first where none is chosen. */
  output: string | null;
}>();

/** The output as far as a model has it. */
const outputOf = (row: ModelRow) =>
  row.model.outputs.length > 1 && row.model.outputs.some((one) => one.tag === props.output)
    ? props.output
    : null;
const analysis = computed(() => analysisOf(props.model.id, outputOf(props.model)));
const other = computed(() => {
  const row = props.pinned;
  const at = outputOf(props.model) ?? props.model.model.outputs[0]?.tag;
  // Another output is no match.
  const has = row?.model.outputs.some((one) => one.tag === at);
  return row && has ? analysisOf(row.id, outputOf(row)) : null;
});
/** The inputs that act on the output, and the one that is looked at. */
const inputs = computed(() => analysis.value?.inputs ?? []);
const input = ref(0);
watch(inputs, (known) => {
  if (input.value >= known.length) input.value = 0;
});
const name = (row: ModelRow) => letter(row.number);

// --- residuals: of the data that the fit has not seen, where there are any ---

const onNewData = ref(true);
const validation = computed(() => {
  const found = analysis.value;
  return found ? ((onNewData.value ? found.validation : null) ?? found.estimation) : null;
});
const autocorrelation = computed<Line[]>(() => {
  const values = validation.value?.tests.autocorrelation ?? [];
  // At lag 0 it is always 1.
  return [
    { x: values.slice(1).map((_, k) => k + 1), y: values.slice(1), colour: "--measured", kind: "stems" },
  ];
});
const ownBand = computed<[number, number]>(() => {
  const half = validation.value?.tests.autocorrelation_band ?? 0;
  return [-half, half];
});

// --- responses ---

function steps(): Line[] {
  const line = (found: Schemas["Analysis"] | null, row: ModelRow | null, dash?: number[]): Line[] => {
    const step = found?.steps[input.value];
    if (!step || !row) return [];
    const half = step.half_widths.length ? step.half_widths : undefined;
    return [
      {
        x: step.times,
        y: step.values,
        half,
        colour: dash ? "--over-1" : "--pv",
        dash,
        label: name(row),
        width: 2.2,
      },
    ];
  };
  return [...line(other.value, props.pinned, [7, 4]), ...line(analysis.value, props.model)];
}
function frequency(which: "gains" | "phases"): Line[] {
  const line = (found: Schemas["Analysis"] | null, row: ModelRow | null, dash?: number[]): Line[] => {
    const response = found?.frequencies[input.value];
    if (!response || !row) return [];
    const widths = which === "gains" ? response.gain_half_widths : response.phase_half_widths;
    const half = widths.length ? widths : undefined;
    return [
      {
        x: response.omegas,
        y: response[which],
        half,
        colour: dash ? "--over-1" : "--pv",
        dash,
        label: name(row),
        width: 2,
      },
    ];
  };
  return [...line(other.value, props.pinned, [7, 4]), ...line(analysis.value, props.model)];
}
const gainUnit = computed(() => {
  const signal = inputs.value[input.value];
  const { outputs } = props.model.model;
  const per = (outputs.find((one) => one.tag === outputOf(props.model)) ?? outputs[0])?.unit ?? "";
  return `${per}/${signal?.unit ?? "%"}`;
});

// --- poles and zeros ---

const isDiscrete = computed(
  () => analysis.value?.poles.some((pole) => pole.discrete_modulus != null) ?? false,
);
const poles = computed<Line[]>(() => {
  const points = (roots: Schemas["Root"][], kind: "crosses" | "circles", colour: string): Line => ({
    x: roots.map((root) => root.re),
    y: roots.map((root) => root.im),
    kind,
    colour,
  });
  const found = analysis.value;
  if (!found) return [];
  const list = [points(found.poles, "crosses", "--pv"), points(found.zeros, "circles", "--op")];
  const under = other.value;
  if (under && under.poles.some((pole) => pole.discrete_modulus != null) === isDiscrete.value) {
    list.unshift(points(under.poles, "crosses", "--over-1"));
  }
  return list;
});

/** The plane of s: the origin in sight, and as much up and down as there is to see. */
const plane = computed(() => {
  const roots = [...(analysis.value?.poles ?? []), ...(analysis.value?.zeros ?? [])];
  const reach = Math.max(1e-9, ...roots.map((root) => Math.abs(root.re)));
  const height = Math.max(0.4 * reach, ...roots.map((root) => 1.25 * Math.abs(root.im)));
  const right = Math.max(0.25 * reach, ...roots.map((root) => 1.25 * root.re));
  return { x: [-1.3 * reach, right] as [number, number], y: [-height, height] as [number, number] };
});

// --- uncertainty ---

const pair = ref(0);
const region = computed(() => analysis.value?.regions[pair.value] ?? null);
const outline = computed<Line[]>(() => {
  const found = region.value;
  if (!found) return [];
  const column = (index: number) => found.outline.map((point) => point[index] as number);
  return [
    { x: column(0), y: column(1), colour: "--pv", width: 2 },
    { x: [found.centre[0] as number], y: [found.centre[1] as number], kind: "points", colour: "--ink" },
  ];
});
/** Numbers that have a profile; of a model with a dead time that one first. */
const profiled = computed(() =>
  props.model.model.parameters
    .filter((known) => known.standard_error != null && !known.fixed && !known.input)
    .map((known) => known.name),
);
const profileOf = ref("");
watch(
  () => props.model.id,
  () =>
    (profileOf.value = profiled.value.includes("dead_time")
      ? "dead_time"
      : (profiled.value[0] ?? "dead_time")),
  { immediate: true },
);
const profile = ref<Schemas["Profile"] | null>(null);
const profileProblem = ref("");
watch(
  () => [props.view, props.model.id, profileOf.value, comebacks.value] as const,
  async ([view, id, parameter]) => {
    if (view !== "uncertainty") return;
    profile.value = null;
    profileProblem.value = "";
    try {
      const query = { parameter };
      const found = await answered(
        api.GET("/api/v1/models/{id}/profile", { params: { path: { id }, query } }),
      );
      if (props.model.id === id && profileOf.value === parameter) profile.value = found;
    } catch (error) {
      profileProblem.value = messageOf(error);
    }
  },
  { immediate: true },
);
const profileLine = computed<Line[]>(() => {
  const found = profile.value;
  if (!found) return [];
  const x = found.points.map((point) => point.value);
  return [
    { x, y: found.points.map((point) => 100 * point.rise), colour: "--pv", width: 2, label: "rise" },
    {
      x: [x[0] ?? 0, x.at(-1) ?? 1],
      y: [100 * found.allowed_rise, 100 * found.allowed_rise],
      colour: "--limit",
      dash: [5, 4],
      label: "95 %",
    },
  ];
});
const profileMarks = computed(() =>
  (profile.value?.interval ?? [])
    .filter((end): end is number => end !== null)
    .map((end) => ({ x: end, label: `${number(end, 4)} ${profile.value?.unit ?? ""}` })),
);
</script>

<template>
  <StateNotice v-if="failureOf(model.id, outputOf(model))" kind="failed" title="The model cannot be analysed">
    {{ failureOf(model.id, outputOf(model)) }}
  </StateNotice>
  <StateNotice v-else-if="!analysis" kind="loading" title="Responses and tests on their way" />
  <div v-else class="flex h-full min-h-0 flex-col gap-1 pb-1">
    <div v-if="view === 'step' || view === 'frequency'" class="flex gap-3 pl-14 text-[13px]">
      <label v-if="inputs.length > 1" class="flex items-center gap-2">
        from
        <select v-model="input" class="entry !py-0">
          <option v-for="(signal, k) in inputs" :key="signal.tag" :value="k">
            {{ signal.tag }}
          </option>
        </select>
      </label>
      <span class="text-soft">Shaded: 95 % band from the covariance of the parameters.</span>
    </div>
    <template v-if="view === 'residuals' && validation">
      <div class="flex flex-wrap gap-4 pl-14 text-[13px]">
        <label v-if="analysis.validation" class="flex items-center gap-2">
          <input v-model="onNewData" type="checkbox" /> on the data that the fit has not seen
        </label>
        <span>
          probability that it is white:
          <strong class="font-semibold">{{ number(validation.tests.whiteness, 2) }}</strong>
        </span>
        <span v-for="cross in validation.tests.cross_correlation" :key="cross.input">
          independent of {{ cross.input }}:
          <strong class="font-semibold">{{ number(cross.independence, 2) }}</strong>
        </span>
        <span class="text-soft">below 0.01 something was left out · shaded: 99 % band</span>
      </div>
      <div class="min-h-0 flex-1">
        <XyPlot
          :lines="autocorrelation"
          title="Autocorrelation of the residuals"
          x-title="lag, samples"
          :band="ownBand"
        />
      </div>
      <div v-for="cross in validation.tests.cross_correlation" :key="cross.input" class="min-h-0 flex-1">
        <XyPlot
          :lines="[{ x: cross.lags, y: cross.values, colour: '--op', kind: 'stems' }]"
          :title="`Residuals against ${cross.input}`"
          x-title="lag, samples (below 0: feedback)"
          :band="[-cross.band, cross.band]"
        />
      </div>
    </template>
    <div v-else-if="view === 'step'" class="min-h-0 flex-1">
      <XyPlot :lines="steps()" title="Step response" :y-title="gainUnit" x-title="s" />
    </div>
    <template v-else-if="view === 'frequency'">
      <div class="min-h-0 flex-[1.2]">
        <XyPlot :lines="frequency('gains')" title="Gain" :y-title="gainUnit" x-title="rad/s" log-x log-y />
      </div>
      <div class="min-h-0 flex-1">
        <XyPlot :lines="frequency('phases')" title="Phase" y-title="°" x-title="rad/s" log-x />
      </div>
    </template>
    <div v-else-if="view === 'poles'" class="grid min-h-0 flex-1 grid-cols-[1fr_230px] gap-3">
      <XyPlot
        :lines="poles"
        :title="isDiscrete ? 'Poles × and zeros ○ of z' : 'Poles × and zeros ○ of s'"
        :x-title="isDiscrete ? 'real part' : 'real part, 1/s'"
        :y-title="isDiscrete ? 'stable inside the circle' : 'imaginary part, 1/s'"
        :unit-circle="isDiscrete"
        :x-range="isDiscrete ? undefined : plane.x"
        :y-range="isDiscrete ? undefined : plane.y"
        :marks="isDiscrete ? undefined : [{ x: 0, label: 'stable left of here' }]"
      />
      <div class="overflow-auto pt-6 pr-3 text-[13px]">
        <table class="w-full">
          <thead class="text-[12px] text-soft">
            <tr>
              <th class="text-left font-normal">pole</th>
              <th class="text-right font-normal">time const. s</th>
              <th class="text-right font-normal">damping</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(pole, k) in analysis.poles" :key="k" class="border-t border-rule">
              <td>
                {{ number(pole.re)
                }}{{ pole.im ? ` ${pole.im > 0 ? "+" : "−"} ${number(Math.abs(pole.im))}j` : "" }}
              </td>
              <td class="text-right">{{ number(pole.time_constant) }}</td>
              <td class="text-right">{{ number(pole.damping) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </div>
    <template v-else-if="view === 'uncertainty'">
      <div v-if="region" class="flex items-center gap-3 pl-14 text-[13px]">
        <label class="flex items-center gap-2">
          pair
          <select v-model="pair" class="entry !py-0">
            <option v-for="(known, k) in analysis.regions" :key="k" :value="k">
              {{ inWords(known.parameters[0] ?? "") }} and {{ inWords(known.parameters[1] ?? "") }}
            </option>
          </select>
        </label>
        <span
          >correlation <strong class="font-semibold">{{ number(region.correlation) }}</strong></span
        >
      </div>
      <div v-if="region" class="min-h-0 flex-1">
        <XyPlot
          :lines="outline"
          title="Joint 95 % region"
          :y-title="`${inWords(region.parameters[1] ?? '')}, ${region.units[1]}`"
          :x-title="`${inWords(region.parameters[0] ?? '')}, ${region.units[0]}`"
        />
      </div>
      <label v-if="profiled.length > 1" class="flex items-center gap-2 pl-14 text-[13px]">
        profile of
        <select v-model="profileOf" class="entry !py-0">
          <option v-for="known in profiled" :key="known" :value="known">{{ inWords(known) }}</option>
        </select>
      </label>
      <div class="min-h-0 flex-1">
        <XyPlot
          v-if="profile"
          :lines="profileLine"
          :marks="profileMarks"
          :title="`Profile of the ${inWords(profile.parameter)}`"
          y-title="rise of the sum of squares, %"
          :x-title="profile.unit"
        />
        <p v-else-if="profileProblem" class="pt-6 pl-14 text-soft">No profile: {{ profileProblem }}</p>
        <StateNotice v-else kind="loading" :title="`Profile of the ${inWords(profileOf)} on its way`" />
      </div>
    </template>
  </div>
</template>
