<script setup lang="ts">
/** How far a predictive controller looks and plans, over what its model does after a move of each MV. */
import { computed, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import TimeStrip from "../components/TimeStrip.vue";
import { duration, number } from "../lib/format";
import { comebacks, gathered } from "../lib/live";
import { plain } from "../lib/plain";
import { horizonMarks, responsePanels, type Predictive } from "./predictive";

const props = defineProps<{ trial: Trial; loopTag: string }>();
const emit = defineEmits<{ change: [edit: (settings: Predictive) => void]; settled: [] }>();

const over = shallowRef<Schemas["PlannedOver"] | null>(null);
const refusal = shallowRef("");
watch(
  [() => JSON.stringify([props.trial.plant, props.trial.candidate, props.trial.scenario.scan]), comebacks],
  gathered(async () => {
    try {
      over.value = await answered(api.POST("/api/v1/predictive/responses", { body: plain(props.trial) }));
      refusal.value = "";
    } catch (error) {
      refusal.value = messageOf(error);
    }
  }, 60),
  { immediate: true },
);

const panels = computed(() => (over.value ? responsePanels(over.value) : []));
const marks = computed(() => (over.value ? horizonMarks(over.value) : []));
const extent = computed<[number, number]>(() => {
  const own = over.value;
  return [0, own ? own.interval * Math.max(2, own.cvs[0]?.by[0]?.values.length ?? 0) : 60];
});

/** How much of the settling is looked ahead, in words. */
const summary = computed(() => {
  const own = over.value;
  if (!own) return "";
  const scans = Math.round(own.looks_ahead / own.interval);
  const settles = own.settles_after
    ? `the slowest response has settled after ${duration(own.settles_after)}`
    : "not every response has settled by the furthest that can be looked";
  return `It looks ahead by ${duration(own.looks_ahead)}, ${scans} scans of ${duration(own.interval)}; ${settles}.`;
});

/** How the loop settles by its own model, in words: its slowest poles. */
const settling = computed(() => {
  const poles = over.value?.poles ?? [];
  const inWords = ({ time_constant: time, period, damping }: Schemas["ClosedLoopPole"]) => {
    const decay = time === null || time === undefined ? "stays" : time < 0 ? "grows" : duration(time);
    return period ? `${decay} (damping ${number(damping, 2)}, period ${duration(period)})` : decay;
  };
  return poles.map(inWords).join(" · ");
});

async function drag(key: string, to: number) {
  const own = over.value;
  if (!own) return;
  if (key === "horizon") {
    const scans = Math.max(1, Math.round(to / own.interval));
    emit("change", (settings) => (settings.horizon = Number((scans * own.interval).toPrecision(12))));
    return emit("settled");
  }
  try {
    const until = Math.min(Math.max(0, to), own.looks_ahead - own.interval);
    const body = { trial: plain(props.trial), until };
    const taken = await answered(api.POST("/api/v1/predictive/moves", { body }));
    emit("change", (settings) => (settings.moves = taken.moves));
    emit("settled");
  } catch (error) {
    refusal.value = messageOf(error);
  }
}
</script>

<template>
  <StateNotice v-if="refusal && !over" kind="failed" title="The responses cannot be drawn">{{
    refusal
  }}</StateNotice>
  <StateNotice v-else-if="!over" kind="loading" title="The model is being asked" />
  <div v-else class="flex min-h-0 flex-1 flex-col">
    <p class="pb-1 pl-[62px] text-[12.5px] text-soft">
      What each CV does after a move of an MV by 1 %. Draw the marks to where it should look and plan to.
    </p>
    <TimeStrip
      class="min-h-0 flex-1"
      :panels="panels"
      :marks="marks"
      :extent="extent"
      :stale="refusal ? 'of the settings before the refused change' : ''"
      :label="`Responses of the model of ${loopTag} with both horizons`"
      @drag="drag"
    />
    <p class="border-t border-rule pt-1 pl-[62px] text-[12.5px]" role="status">{{ summary }}</p>
    <p class="pb-1 pl-[62px] text-[12.5px] text-soft">
      {{
        settling
          ? `Poles of the closed loop by its own model, the slowest first, as time constants: ${settling}.`
          : "There is no one linear law whose poles could be told: no set point is followed, or the model is not linear."
      }}
    </p>
  </div>
</template>
