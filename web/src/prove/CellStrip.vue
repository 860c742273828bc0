<script setup lang="ts">
/** The strip of a disturbance: all candidates on one plant, the chosen one in front. */
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import TimeStrip from "../components/TimeStrip.vue";
import { courseMarks, coursePanels, type Drawn } from "../control/course";
import { gathered } from "../lib/live";
import { useLoop } from "../lib/loop";
import { tell } from "../lib/notes";
import { plain } from "../lib/plain";
import { OVERLAYS } from "../lib/strip";
import type { ProofRow } from "./proof";

const props = defineProps<{ row: ProofRow; disturbance: number; candidate: number }>();
const emit = defineEmits<{ open: [disturbance: number, candidate: number] }>();
const loop = useLoop();

/** The plant as it is, or the one on which the chosen candidate is worst. */
const onWorst = ref(false);
const worstPlant = computed(
  () => props.row.result.cells[props.disturbance]?.[props.candidate]?.worst_plant ?? null,
);
const plant = computed(() => (onWorst.value ? worstPlant.value : null));
const drawn = shallowRef<{ trial: Trial; trace: Schemas["Trace"]; name: string; place: number }[]>([]);
const trouble = ref("");
const isWaiting = ref(true);

const load = gathered(async () => {
  const asked = [props.row.id, props.disturbance, plant.value] as const;
  isWaiting.value = true;
  const found: typeof drawn.value = [];
  const refused: string[] = [];
  for (const [place, name] of props.row.result.candidates.entries()) {
    try {
      const body = {
        proof: plain(props.row.proof),
        disturbance: props.disturbance,
        candidate: place,
        plant: plant.value,
      };
      const trial = await answered(api.POST("/api/v1/proofs/trial", { body }));
      const run = await answered(
        api.POST("/api/v1/simulate", { params: { query: { rows: 2000 } }, body: plain(trial) }),
      );
      found.push({ trial, trace: run.trace, name, place });
    } catch (error) {
      refused.push(`${name}: ${messageOf(error)}`);
    }
  }
  // What was asked for meanwhile comes by itself.
  if (asked[0] !== props.row.id || asked[1] !== props.disturbance || asked[2] !== plant.value) return;
  drawn.value = found;
  trouble.value = refused.join(" ");
  isWaiting.value = false;
}, 30);
watch(() => [props.row.id, props.disturbance, plant.value], load, { immediate: true });

const main = computed(
  () => drawn.value.find((one) => one.place === props.candidate) ?? drawn.value[0] ?? null,
);
const panels = computed(() => {
  const front = main.value;
  if (!front) return [];
  const under: Drawn[] = drawn.value
    .filter((one) => one !== front)
    .slice(0, OVERLAYS.length)
    .map((one, k) => ({ name: one.name, trace: one.trace, ...(OVERLAYS[k] as (typeof OVERLAYS)[number]) }));
  const own: Drawn = { name: front.name, trace: front.trace, colour: "--pv", dash: [] };
  return coursePanels(front.trial, own, undefined, under, new Set());
});
const marks = computed(() =>
  main.value ? courseMarks(main.value.trial, null, main.value.trace, false) : [],
);
const extent = computed<[number, number]>(() => [0, main.value?.trial.scenario.duration ?? 1]);

/** A cell as a trial of the trail, to be worked on at Control. */
async function keep() {
  const front = main.value;
  if (!front) return;
  const of = props.row.result.rows[props.disturbance]?.name ?? "";
  const where = plant.value === null ? "" : `, plant ${plant.value + 1}`;
  try {
    const row = await answered(
      api.POST("/api/v1/loops/{tag}/trials", {
        params: { path: { tag: loop.state.tag } },
        body: {
          trial: plain(front.trial),
          model_id: null,
          changed_from: null,
          label: `proof ${props.row.number}, ${front.name}: ${of}${where}`.slice(0, 120),
        },
      }),
    );
    await loop.refreshTrials();
    tell(`Kept at Control: ${row.label}.`);
  } catch (error) {
    tell(messageOf(error));
  }
}
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col">
    <div class="flex flex-wrap items-center gap-2 pr-3 pb-1 text-[13px]">
      <label>
        <span class="sr-only">Disturbance</span>
        <select
          class="entry max-w-[300px]"
          :value="disturbance"
          @change="emit('open', Number(($event.target as HTMLSelectElement).value), candidate)"
        >
          <option v-for="(one, index) in row.result.rows" :key="one.name" :value="index">
            {{ one.name }}
          </option>
        </select>
      </label>
      <label>
        <span class="mr-1 text-soft">in front</span>
        <select
          class="entry"
          :value="candidate"
          @change="emit('open', disturbance, Number(($event.target as HTMLSelectElement).value))"
        >
          <option v-for="(name, index) in row.result.candidates" :key="name" :value="index">
            {{ name }}
          </option>
        </select>
      </label>
      <label v-if="worstPlant !== null" class="flex items-center gap-1">
        <input v-model="onWorst" type="checkbox" /> on the plant on which it is worst
      </label>
      <button type="button" class="button ml-auto !py-[2px]" :disabled="!main" @click="keep">
        Keep as a trial
      </button>
    </div>
    <p v-if="trouble" class="mr-3 mb-1 border-l-[3px] border-caution pl-3 text-[12.5px]">△ {{ trouble }}</p>
    <StateNotice
      v-if="panels.length === 0 && isWaiting"
      kind="loading"
      title="The candidates are being simulated"
    />
    <StateNotice
      v-else-if="panels.length === 0"
      kind="failed"
      title="No candidate can be run here"
      :retry="load"
    />
    <TimeStrip
      v-else
      class="min-h-0 flex-1"
      :panels="panels"
      :marks="marks"
      :extent="extent"
      :label="`All candidates under ${row.result.rows[disturbance]?.name}`"
    />
  </div>
</template>
