<script setup lang="ts">
/** A plant where it operates: the answer of the PV to the OP with the nearest low-order model, rests, poles, matrices. */
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import VerdictNote from "../components/VerdictNote.vue";
import XyPlot from "../components/XyPlot.vue";
import { number, timeUnit } from "../lib/format";
import type { Line } from "../lib/xy";
import { readable } from "./events";
import { comebacks } from "../lib/live";

const props = defineProps<{ plant: Trial["plant"] }>();

const analysis = shallowRef<Schemas["PlantAnalysis"] | null>(null);
const failure = ref("");
const part = ref<"rests" | "channels" | "matrices">("rests");
let sent = 0;
let timer = 0;

async function analyse() {
  const ticket = ++sent;
  try {
    const answer = await answered(api.POST("/api/v1/plants/analyse", { body: props.plant }));
    if (ticket !== sent) return;
    analysis.value = answer;
    failure.value = "";
  } catch (error) {
    if (ticket === sent) failure.value = messageOf(error);
  }
}

watch(
  [() => JSON.stringify(props.plant), comebacks],
  () => {
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void analyse(), analysis.value ? 200 : 0);
  },
  { immediate: true },
);

const unit = computed(() => props.plant.pv.span.unit);
/** Which way is shown: an empty text for that from the OP to the PV. */
const way = ref("");
const channels = computed(() => analysis.value?.linearisation.channels ?? []);
const shown = computed(
  () => channels.value.find((channel) => `${channel.input} ${channel.output}` === way.value) ?? null,
);
const ways = computed(() => [
  { value: "", title: "OP → PV" },
  ...channels.value.map(({ input, output }) => ({
    value: `${input} ${output}`,
    title: `${readable(input)} → ${readable(output)}`,
  })),
]);
function unitOf(list: "inputs" | "outputs", name: string): string {
  return analysis.value?.description[list].find((quantity) => quantity.name === name)?.unit ?? "";
}
const heading = computed(() =>
  shown.value
    ? `${readable(shown.value.output)} after ${readable(shown.value.input)} +1 ${unitOf("inputs", shown.value.input)}`
    : `${props.plant.pv.tag} after ${props.plant.op.tag} +1 %`,
);

const time = computed(() => {
  const channel = shown.value ?? analysis.value?.channel;
  return timeUnit(channel ? channel.interval * channel.step_response.length : 1);
});

const responses = computed<Line[]>(() => {
  const channel = analysis.value?.channel;
  if (!channel) return [];
  if (shown.value) {
    const { interval, step_response: y } = shown.value;
    return [{ x: y.map((_, k) => (k * interval) / time.value.seconds), y, colour: "--pv", width: 2.4 }];
  }
  const x = channel.step_response.map((_, k) => (k * channel.interval) / time.value.seconds);
  const lines: Line[] = [{ x, y: channel.step_response, colour: "--pv", width: 2.4, label: "plant" }];
  if (channel.nearest)
    lines.unshift({
      x,
      y: channel.nearest.step_response,
      colour: "--over-1",
      dash: [7, 4],
      width: 1.8,
      label: "nearest",
    });
  return lines;
});

const nearest = computed(() => {
  const process = analysis.value?.channel.nearest?.process;
  if (!process) return [];
  const perSecond = process.structure === "integrating" ? "/s" : "";
  return [
    ["gain", `${number(process.gain, 4)} ${unit.value}/%${perSecond}`],
    ...("time_constant" in process ? [["time constant", `${number(process.time_constant, 4)} s`]] : []),
    ["dead time", `${number(process.dead_time, 4)} s`],
  ] as [string, string][];
});

const roots = computed<Line[]>(() => {
  const points = (list: number[][], kind: "crosses" | "circles", colour: string): Line => ({
    x: list.map((root) => root[0] as number),
    y: list.map((root) => root[1] as number),
    kind,
    colour,
  });
  const found = analysis.value?.linearisation;
  return found ? [points(found.poles, "crosses", "--pv"), points(found.zeros, "circles", "--op")] : [];
});
const plane = computed(() => {
  const all = roots.value.flatMap((line) => line.x.map((x, k) => [x, line.y[k] as number] as const));
  const reach = Math.max(1e-9, ...all.map(([re]) => Math.abs(re)));
  const height = Math.max(0.4 * reach, ...all.map(([, im]) => 1.25 * Math.abs(im)));
  const right = Math.max(0.25 * reach, ...all.map(([re]) => 1.25 * re));
  return { x: [-1.3 * reach, right] as [number, number], y: [-height, height] as [number, number] };
});

function root([re, im]: number[]): string {
  return im
    ? `${number(re, 4)} ${(im ?? 0) > 0 ? "+" : "−"} ${number(Math.abs(im ?? 0), 4)}j`
    : number(re, 4);
}

function polynomial(coefficients: number[]): string {
  const degree = coefficients.length - 1;
  const terms = coefficients.map((coefficient, k) => {
    const power = degree - k;
    return `${number(coefficient, 4)}${power === 0 ? "" : power === 1 ? " s" : ` s^${power}`}`;
  });
  return terms.join(" + ").replaceAll("+ −", "− ");
}

/** Where the plant can rest: at the wanted PV, and under the present inputs. */
const rests = computed(() => {
  const found = analysis.value;
  if (!found) return [];
  const output = props.plant.measured
    ? found.description.outputs.findIndex((known) => known.name === props.plant.measured)
    : 0;
  const row = (where: string, op: number, at: Schemas["SteadyState"]) => ({
    where,
    op,
    pv: at.outputs[output],
    at,
  });
  return [
    ...found.rests.map((rest) => row("wanted PV", rest.op, rest.at)),
    ...found.steady_states.map((state) => row("this OP", found.op, state)),
  ];
});

const matrices = computed(() => {
  const found = analysis.value;
  if (!found) return [];
  const { a, b, c, d } = found.linearisation;
  const states = found.description.states.map((state) => readable(state.name));
  return [
    { name: "A, 1/s", rows: a, head: states },
    { name: "B", rows: b, head: [] },
    { name: "C", rows: c, head: states },
    { name: "D", rows: d, head: [] },
  ].filter((matrix) => matrix.rows.some((row) => row.length > 0));
});
</script>

<template>
  <StateNotice v-if="failure" kind="failed" title="The plant cannot be there" :retry="analyse">{{
    failure
  }}</StateNotice>
  <StateNotice v-else-if="!analysis" kind="loading" title="The plant is being analysed" />
  <div v-else class="flex h-full min-h-0 flex-col gap-2 overflow-y-auto pr-3 pb-2">
    <div class="grid min-h-[220px] flex-1 grid-cols-[3fr_2fr] gap-2">
      <XyPlot
        :lines="responses"
        :title="heading"
        :x-title="time.symbol"
        :y-title="shown ? unitOf('outputs', shown.output) : unit"
      />
      <XyPlot
        :lines="roots"
        title="Poles × and zeros ○ of the process"
        x-title="real part, 1/s"
        y-title="imaginary part, 1/s"
        :x-range="plane.x"
        :y-range="plane.y"
      />
    </div>
    <div class="flex flex-wrap items-baseline gap-x-6 gap-y-1">
      <select v-model="way" class="entry" aria-label="Step response">
        <option v-for="choice in ways" :key="choice.value" :value="choice.value">{{ choice.title }}</option>
      </select>
      <span v-if="analysis.channel.gain != null">
        <span class="text-soft">gain</span>
        <strong class="ml-1 font-semibold">{{ number(analysis.channel.gain, 4) }} {{ unit }}/%</strong>
      </span>
      <span v-if="nearest.length" class="text-soft">
        nearest
        {{ analysis.channel.nearest?.process.structure === "fopdt" ? "FOPDT" : "integrating process" }}:
        <template v-for="[name, value] in nearest" :key="name">
          {{ name }} <strong class="mr-2 font-semibold text-ink">{{ value }}</strong>
        </template>
        off by at most {{ number(analysis.channel.nearest?.largest_error, 2) }} %
      </span>
      <span v-else class="text-soft">{{ analysis.channel.without_nearest }}</span>
    </div>
    <VerdictNote v-for="verdict in analysis.verdicts" :key="verdict.text" :verdict="verdict" />
    <div class="flex gap-1" role="tablist" aria-label="Figures of the operating point">
      <button
        v-for="[key, title] in [
          ['rests', 'Steady states'],
          ['channels', 'Transfer functions'],
          ['matrices', 'Matrices'],
        ] as const"
        :key="key"
        type="button"
        role="tab"
        class="border-b-2 px-2 py-[2px]"
        :class="part === key ? 'border-pv font-semibold' : 'border-transparent text-soft'"
        :aria-selected="part === key"
        @click="part = key"
      >
        {{ title }}
      </button>
    </div>
    <div
      class="min-h-[110px] overflow-x-auto"
      tabindex="0"
      role="region"
      aria-label="Figures of the operating point"
    >
      <table v-if="part === 'rests' && rests.length" class="border-collapse text-[13px]">
        <thead class="text-soft">
          <tr>
            <th class="px-2 text-left font-normal">for</th>
            <th class="px-2 text-right font-normal">OP %</th>
            <th class="px-2 text-right font-normal">PV {{ unit }}</th>
            <th
              v-for="state in analysis.description.states.slice(0, 6)"
              :key="state.name"
              class="px-2 text-right font-normal"
            >
              {{ readable(state.name) }} {{ state.unit }}
            </th>
            <th class="px-2 text-left font-normal">eigenvalues, 1/s</th>
            <th class="px-2 text-left font-normal"></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, k) in rests" :key="k" class="border-t border-rule">
            <td class="px-2">{{ row.where }}</td>
            <td class="px-2 text-right">{{ number(row.op, 4) }}</td>
            <td class="px-2 text-right font-semibold">{{ number(row.pv, 5) }}</td>
            <td v-for="(value, s) in row.at.state.slice(0, 6)" :key="s" class="px-2 text-right">
              {{ number(value, 5) }}
            </td>
            <td class="px-2 whitespace-nowrap">{{ row.at.eigenvalues.slice(0, 4).map(root).join(", ") }}</td>
            <td class="px-2" :class="row.at.stable ? 'text-pv' : 'font-semibold text-caution'">
              {{ row.at.stable ? "stable" : "△ not stable" }}
            </td>
          </tr>
        </tbody>
      </table>
      <p v-else-if="part === 'rests'" class="text-soft">
        An integrating process has no steady state of its own: it rests at any value while its inputs agree.
      </p>
      <table v-if="part === 'channels'" class="border-collapse text-[13px]">
        <thead class="text-soft">
          <tr>
            <th class="px-2 text-left font-normal">from</th>
            <th class="px-2 text-left font-normal">to</th>
            <th class="px-2 text-right font-normal">gain</th>
            <th class="px-2 text-left font-normal">transfer function, s in 1/s</th>
            <th class="px-2 text-left font-normal">poles, 1/s</th>
            <th class="px-2 text-left font-normal">zeros, 1/s</th>
            <th class="px-2 text-right font-normal">dead time</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="channel in analysis.linearisation.channels"
            :key="channel.input + channel.output"
            class="border-t border-rule align-top"
          >
            <td class="px-2 whitespace-nowrap">{{ readable(channel.input) }}</td>
            <td class="px-2 whitespace-nowrap">{{ readable(channel.output) }}</td>
            <td class="px-2 text-right">
              {{ channel.gain == null ? "integrates" : number(channel.gain, 4) }}
            </td>
            <td class="px-2 whitespace-nowrap">
              <span class="block border-b border-ink text-center">{{ polynomial(channel.numerator) }}</span>
              <span class="block text-center">{{ polynomial(channel.denominator) }}</span>
            </td>
            <td class="px-2 whitespace-nowrap">{{ channel.poles.slice(0, 4).map(root).join(", ") }}</td>
            <td class="px-2 whitespace-nowrap">
              {{ channel.zeros.slice(0, 4).map(root).join(", ") || "–" }}
            </td>
            <td class="px-2 text-right whitespace-nowrap">{{ number(channel.dead_time) }} s</td>
          </tr>
        </tbody>
      </table>
      <div v-if="part === 'matrices'" class="flex flex-wrap gap-x-8 gap-y-3">
        <div v-for="matrix in matrices" :key="matrix.name">
          <h3 class="font-semibold">{{ matrix.name }}</h3>
          <table class="border-x border-ink text-[13px]">
            <tbody>
              <tr v-for="(row, k) in matrix.rows" :key="k">
                <td v-for="(value, j) in row" :key="j" class="px-2 text-right">{{ number(value, 4) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </div>
    </div>
  </div>
</template>
