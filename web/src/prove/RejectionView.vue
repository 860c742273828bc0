<script setup lang="ts">
/** Disturbance rejection over frequency: what came in in a record, what each candidate leaves of it, and how near the loop was to the best. */
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, ApiError, messageOf, type Schemas } from "../api/client";
import NumberField from "../components/NumberField.vue";
import ProblemNote from "../components/ProblemNote.vue";
import StateNotice from "../components/StateNotice.vue";
import VerdictNote from "../components/VerdictNote.vue";
import XyPlot from "../components/XyPlot.vue";
import { duration, number } from "../lib/format";
import { comebacks } from "../lib/live";
import { useLoop } from "../lib/loop";
import type { Line } from "../lib/xy";
import type { ProofRow } from "./proof";
import { leftOver, sensitivities } from "./rejection";

const props = defineProps<{ row: ProofRow }>();
const { state } = useLoop();

/** The model of the process: that of the proof, else the one that is chosen. */
const model = computed(() => {
  const own = state.models.find((one) => one.id === props.row.model_id);
  return own ?? state.models.find((one) => one.chosen) ?? null;
});
const chosenRecord = ref<string | null>(null);
const record = computed(() => chosenRecord.value ?? model.value?.record_id ?? null);
const deadTime = ref<number | null>(null);
watch(
  () => props.row.id,
  () => {
    chosenRecord.value = null;
    deadTime.value = null;
  },
);

const found = shallowRef<Schemas["Rejection"] | null>(null);
const failure = ref("");
const refusedDeadTime = ref("");
let asked = 0;
watch(
  [() => props.row.id, () => model.value?.id, record, deadTime, comebacks],
  async ([row], [before]) => {
    const mine = ++asked;
    // What one proof's candidates leave never stands beside another.
    if (row !== before) found.value = null;
    if (!model.value || !record.value) return;
    try {
      const query = { model: model.value.id, record: record.value, dead_time: deadTime.value ?? undefined };
      const params = { path: { id: props.row.id }, query };
      const answer = await answered(api.GET("/api/v1/proofs/{id}/rejection", { params }));
      if (mine !== asked) return;
      found.value = answer;
      failure.value = "";
      refusedDeadTime.value = "";
    } catch (error) {
      if (mine !== asked) return;
      const isDeadTime = error instanceof ApiError && error.field === "dead_time";
      refusedDeadTime.value = isDeadTime ? messageOf(error) : "";
      failure.value = isDeadTime ? "" : messageOf(error);
      // What stood there is of another question.
      found.value = null;
    }
  },
  { immediate: true },
);

const omega = computed(() => found.value?.arrived?.omega ?? []);
const range = computed<[number, number]>(() => [omega.value[0] ?? 1e-3, omega.value.at(-1) ?? 1]);
const upper = computed<Line[]>(() => (found.value ? sensitivities(found.value) : []));
const lower = computed<Line[]>(() => (found.value ? leftOver(found.value) : []));
const heights = computed<[number, number]>(() => {
  const values = upper.value.flatMap((line) => line.y.filter((value): value is number => value !== null));
  return [Math.max(1e-3, Math.min(0.5, ...values)), 1.25 * Math.max(2, ...values)];
});
/** From the highest down to what is too little to count. */
const variances = computed<[number, number]>(() => {
  const highest = Math.max(
    ...lower.value.flatMap((line) => line.y.filter((value): value is number => value !== null)),
  );
  return [highest * 1e-4, highest * 1.5];
});
const told = computed(() => found.value?.candidates ?? []);
const unit = computed(() => found.value?.unit ?? "");
const share = (value: number) => `${Math.round(100 * value)} %`;
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col pr-3">
    <StateNotice v-if="!model" kind="empty" title="No model of the process">
      <p>What came in is what a model does not owe to the OP: fit one to a record first.</p>
      <RouterLink class="button mt-3 inline-block" :to="{ name: 'model' }">Fit one at Model</RouterLink>
    </StateNotice>
    <template v-else>
      <div class="flex flex-wrap items-center gap-3 pb-1 text-[13px]">
        <label>
          <span class="mr-1 text-soft">Record</span>
          <select
            class="entry max-w-[260px]"
            :value="record"
            @change="chosenRecord = ($event.target as HTMLSelectElement).value"
          >
            <option v-for="one in state.records" :key="one.id" :value="one.id">{{ one.name }}</option>
          </select>
        </label>
        <div class="w-[310px]">
          <NumberField
            v-model="deadTime"
            label="Dead time"
            unit="s"
            :min="0"
            :when-empty="found ? number(found.dead_time) : ''"
            :hint="deadTime === null ? 'of the model' : ''"
            :problem="refusedDeadTime"
          />
        </div>
      </div>
      <ProblemNote :text="failure" />
      <div v-if="found" class="min-h-0 flex-1 overflow-auto" tabindex="0" role="group" aria-label="Rejection">
        <div v-if="found.arrived" class="grid h-[225px] grid-cols-2 gap-1 max-[900px]:grid-cols-1">
          <XyPlot
            :lines="upper"
            title="|S|"
            y-title="from a disturbance to the PV: below 1 the loop helps"
            x-title="rad/s"
            log-x
            log-y
            :x-range="range"
            :y-range="heights"
          />
          <XyPlot
            :lines="lower"
            title="What is left"
            :y-title="`variance per decade, (${unit})²`"
            x-title="rad/s"
            log-x
            log-y
            :x-range="range"
            :y-range="variances"
          />
        </div>
        <table v-if="found.arrived" class="mt-1 w-full border-collapse text-[12.5px] tabular-nums">
          <thead>
            <tr class="text-soft">
              <th scope="col" class="py-[2px] text-left font-normal">candidate</th>
              <th scope="col" class="text-right font-normal">leaves, {{ unit }}</th>
              <th scope="col" class="text-right font-normal">helps slower than</th>
              <th scope="col" class="text-right font-normal">makes worse</th>
              <th scope="col" class="text-right font-normal">by up to</th>
              <th scope="col" class="text-right font-normal">of the disturbance: helped</th>
              <th scope="col" class="text-right font-normal">made worse</th>
            </tr>
          </thead>
          <tbody>
            <tr class="border-t border-rule text-soft">
              <th scope="row" class="py-[2px] text-left font-normal">as it came in</th>
              <td class="text-right">{{ number(found.arrived.deviation) }}</td>
              <td colspan="5" />
            </tr>
            <tr v-for="own in told" :key="own.name" class="border-t border-rule">
              <th scope="row" class="py-[2px] text-left font-semibold">{{ own.name }}</th>
              <td v-if="own.refusal" colspan="6" class="pl-4">{{ own.refusal }}</td>
              <template v-else>
                <td class="text-right font-semibold">{{ number(own.deviation) }}</td>
                <td class="text-right">
                  {{ own.helps_slower_than ? duration(own.helps_slower_than) : "nothing" }}
                </td>
                <td class="text-right">
                  {{ own.worse ? `${duration(own.worse[1])} to ${duration(own.worse[0])}` : "nothing" }}
                </td>
                <td class="text-right">{{ own.largest ? `${number(own.largest[0])} times` : "–" }}</td>
                <td class="text-right">{{ share(own.helped) }}</td>
                <td class="text-right">{{ share(own.made_worse) }}</td>
              </template>
            </tr>
            <tr v-if="found.arrived.least_deviation != null" class="border-t border-rule text-soft">
              <th scope="row" class="py-[2px] text-left font-normal">least that feedback could leave</th>
              <td class="text-right">{{ number(found.arrived.least_deviation) }}</td>
              <td colspan="5" />
            </tr>
          </tbody>
        </table>
        <VerdictNote
          v-for="verdict in found.verdicts"
          :key="verdict.text"
          :verdict="verdict"
          class="mt-2 text-[13px]"
        />
      </div>
    </template>
  </div>
</template>
