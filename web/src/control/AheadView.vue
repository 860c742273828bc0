<script setup lang="ts">
/** What the predictive controller of a trial saw ahead at one scan: expected, planned, and what held it. */
import { computed, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import TimeStrip from "../components/TimeStrip.vue";
import { duration, number } from "../lib/format";
import { useKept } from "../lib/kept";
import { gathered } from "../lib/live";
import { plain } from "../lib/plain";
import { readable } from "./events";
import { aheadPanels, learntOf, lookedAt, stepped, type LookAhead } from "./predictive";

const props = defineProps<{ trial: Trial; trace: Schemas["Trace"] | null; loopTag: string }>();

/** The scan that is looked at: where the first thing happens, until somebody looks elsewhere. */
const first = computed(() => Math.min(...props.trial.scenario.events.map((event) => event.at), Infinity));
const kept = useKept<number>(`scan ahead of ${props.loopTag}`, () => -1);
const at = computed(() =>
  stepped(props.trial, kept.value >= 0 ? kept.value : Number.isFinite(first.value) ? first.value : 0, 0),
);

const ahead = shallowRef<LookAhead | null>(null);
const refusal = shallowRef("");
watch(
  () => JSON.stringify([props.trial, at.value]),
  gathered(async () => {
    try {
      ahead.value = await answered(
        api.POST("/api/v1/simulate/ahead", { body: { trial: plain(props.trial), at: at.value } }),
      );
      refusal.value = "";
    } catch (error) {
      refusal.value = messageOf(error);
    }
  }, 60),
  { immediate: true },
);

const panels = computed(() => (ahead.value && props.trace ? aheadPanels(props.trace, ahead.value) : []));
const marks = computed(() => lookedAt(at.value));
/** As far back as it looks ahead. */
const extent = computed<[number, number]>(() => {
  const reach = (ahead.value?.cvs[0]?.expected.length ?? 0) * (ahead.value?.interval ?? 1) || 60;
  return [Math.max(0, at.value - reach), at.value + reach];
});

function move(scans: number) {
  kept.value = stepped(props.trial, at.value, scans);
}

function onKey(event: KeyboardEvent) {
  const way = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
  if (!way) return;
  event.preventDefault();
  event.stopPropagation();
  move(way * (event.shiftKey ? 10 : 1));
}

const LIMITS: Record<Schemas["LimitKind"], string> = {
  low: "low limit",
  high: "high limit",
  fall: "how fast it may fall",
  rise: "how fast it may rise",
};
/** Inputs that are moved are in % of what is set. */
const inputUnit = (input: string) => {
  const { controller } = props.trial.candidate;
  return controller.kind === "predictive" && controller.mvs.some((mv) => mv.input === input) ? " %" : "";
};
/** What the model does not explain, and where that acts: what a parameter has become where one drifts. */
function unexplained({ disturbance, disturbance_at: at, parameter, unit }: Schemas["AheadOfCv"]): string {
  if (parameter)
    return `${readable(parameter.name)} ${number(parameter.value, 4)} ${parameter.unit}, given as ${number(parameter.given)}`;
  if (disturbance === null || disturbance === undefined) return "–";
  return at
    ? `${number(disturbance, 2)}${inputUnit(at)} at ${readable(at)}`
    : `${number(disturbance, 2)} ${unit}`;
}
/** What nothing measures is called after an output of the process. */
const nameOf = (tag: string) =>
  ahead.value?.cvs.some((cv) => cv.tag === tag && cv.estimated) ? readable(tag) : tag;
const unitOfCv = (tag: string) => ahead.value?.cvs.find((cv) => cv.tag === tag)?.unit ?? "%";
</script>

<template>
  <StateNotice v-if="refusal && !ahead" kind="failed" title="Nothing can be seen ahead">{{
    refusal
  }}</StateNotice>
  <StateNotice v-else-if="!ahead || !panels.length" kind="loading" title="The trial is being looked into" />
  <div
    v-else
    class="flex min-h-0 flex-1 flex-col"
    tabindex="0"
    role="group"
    aria-label="What is seen ahead: arrow keys go from scan to scan"
    @keydown.capture="onKey"
  >
    <div class="flex flex-wrap items-center gap-2 pb-1 pl-[62px]">
      <button type="button" class="button !py-0" aria-label="The scan before" @click="move(-1)">◂</button>
      <span class="tabular-nums">at {{ duration(ahead.at) }}</span>
      <button type="button" class="button !py-0" aria-label="The next scan" @click="move(1)">▸</button>
      <span class="text-[12.5px] text-soft">
        <kbd class="key">←</kbd> <kbd class="key">→</kbd> scan by scan, with <kbd class="key">Shift</kbd> by
        ten
      </span>
      <span class="ml-3" role="status">{{ ahead.verdict }}</span>
    </div>
    <TimeStrip
      class="min-h-0 flex-1"
      :panels="panels"
      :marks="marks"
      :extent="extent"
      :stale="refusal ? 'of the trial before the refused change' : ''"
      :label="`What ${loopTag} saw ahead at one scan`"
      @drag="(_, to) => (kept = stepped(trial, to, 0))"
    />
    <div
      class="grid max-h-[150px] grid-cols-2 gap-x-8 overflow-auto border-t border-rule py-1 pr-3 pl-[62px] text-[12.5px]"
      tabindex="0"
      role="region"
      aria-label="What holds it, and where it goes"
    >
      <table class="h-fit [&_td+td]:pl-4 [&_th+th]:pl-4">
        <thead>
          <tr class="text-left text-soft">
            <th class="font-normal">What holds it</th>
            <th class="text-right font-normal">felt from</th>
            <th
              class="text-right font-normal"
              title="How much the cost of the plan would fall for 1 % more room"
            >
              costs
            </th>
            <th class="text-right font-normal">gives way</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="limit in ahead.limits" :key="`${limit.tag} ${limit.limit} ${limit.rank}`">
            <td>
              {{ nameOf(limit.tag) }}, {{ LIMITS[limit.limit]
              }}<span v-if="limit.rank" class="text-soft"> · rank {{ limit.rank }}</span>
            </td>
            <td class="text-right">{{ duration(limit.ahead) }}</td>
            <td class="text-right">
              {{ limit.cost === null || limit.cost === undefined ? "–" : number(limit.cost, 2) }}
            </td>
            <td class="text-right" :class="limit.gives_way ? 'text-limit' : 'text-soft'">
              {{ limit.gives_way ? `▲ ${number(limit.gives_way, 2)} ${unitOfCv(limit.tag)}` : "–" }}
            </td>
          </tr>
          <tr v-if="!ahead.limits.length">
            <td colspan="4" class="text-soft">nothing</td>
          </tr>
        </tbody>
      </table>
      <table class="h-fit [&_td+td]:pl-4 [&_th+th]:pl-4">
        <thead>
          <tr class="text-left text-soft">
            <th class="font-normal whitespace-nowrap">Where it goes</th>
            <th class="text-right font-normal">now</th>
            <th class="text-right font-normal whitespace-nowrap">rests at</th>
            <th class="text-right font-normal">not explained</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="cv in ahead.cvs" :key="cv.tag">
            <td>
              {{ nameOf(cv.tag) }}<span v-if="cv.estimated" class="text-soft"> · estimated</span
              ><span v-if="!cv.believed" class="text-caution"> △ not believed</span>
            </td>
            <td class="text-right whitespace-nowrap">{{ number(cv.now) }} {{ cv.unit }}</td>
            <td class="text-right whitespace-nowrap">{{ number(cv.rests_at) }} {{ cv.unit }}</td>
            <td class="text-right">
              {{ unexplained(cv) }}
            </td>
          </tr>
          <tr v-for="mv in ahead.mvs" :key="mv.tag">
            <td>
              {{ mv.tag
              }}<span v-if="!mv.available" class="text-caution">
                △ {{ mv.follows ? "in manual" : "does not follow" }}</span
              >
            </td>
            <td class="text-right whitespace-nowrap">{{ number(mv.before) }} %</td>
            <td class="text-right whitespace-nowrap">{{ number(mv.rests_at) }} %</td>
            <td
              class="text-right whitespace-nowrap"
              :class="{ 'text-soft': !mv.learnt }"
              title="How many times as strongly as the model says, as its moves tell with 95 %; in brackets what is planned with"
            >
              {{ learntOf(mv) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
