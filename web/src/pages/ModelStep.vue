<script setup lang="ts">
import { computed, ref, useTemplateRef, watch } from "vue";
import { useRouter } from "vue-router";
import { answered, api, isAbort, messageOf, type ModelRow, type Schemas } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import StepFrame from "../components/StepFrame.vue";
import NumberField from "../components/NumberField.vue";
import TimeStrip from "../components/TimeStrip.vue";
import TrailTable from "../components/TrailTable.vue";
import VerdictNote from "../components/VerdictNote.vue";
import { duration, letter, number } from "../lib/format";
import { useKeys } from "../lib/keys";
import { useLoop } from "../lib/loop";
import { useSelected } from "../lib/query";
import type { Panel } from "../lib/strip";

const { state, refreshModels } = useLoop();
const router = useRouter();
const selected = useSelected("model");
const wantedRecord = useSelected("record");

const model = computed(() => {
  const byId = state.models.find((known) => known.id === selected.value);
  if (byId) return byId;
  const ofRecord = state.models.filter(
    (known) => !wantedRecord.value || known.record_id === wantedRecord.value,
  );
  return ofRecord.find((known) => known.chosen) ?? ofRecord[0] ?? null;
});
const record = computed(() => {
  const id = wantedRecord.value ?? model.value?.record_id;
  return state.records.find((known) => known.id === id) ?? state.records[0] ?? null;
});
const from = ref<number | null>(null);
const to = ref<number | null>(null);
const curve = ref<Schemas["Curve"] | null>(null);
const samples = ref<Schemas["Samples"] | null>(null);
const failure = ref("");
const refusal = ref("");
const fitting = ref(false);
const strip = useTemplateRef("strip");
let aborter = new AbortController();

watch([model, record], () => void fetchCurve(), { immediate: true });

async function fetchCurve(view?: [number, number]) {
  aborter.abort();
  aborter = new AbortController();
  failure.value = "";
  if (!view) {
    curve.value = null;
    samples.value = null;
  }
  const query = { buckets: 700, ...(view ? { from: view[0], to: view[1] } : {}) };
  const signal = aborter.signal;
  try {
    if (model.value) {
      const params = { path: { id: model.value.id }, query };
      curve.value = await answered(api.GET("/api/v1/models/{id}/curve", { params, signal }));
    } else if (record.value) {
      const params = { path: { id: record.value.id }, query };
      samples.value = await answered(api.GET("/api/v1/records/{id}/samples", { params, signal }));
    }
  } catch (error) {
    if (!isAbort(error)) failure.value = messageOf(error);
  }
}

let waiting = 0;
function viewed(start: number, end: number) {
  window.clearTimeout(waiting);
  if ((record.value?.length ?? 0) > 3500)
    waiting = window.setTimeout(() => void fetchCurve([start, end]), 60);
}

const extent = computed<[number, number]>(() =>
  model.value ? [model.value.window_from, model.value.window_to] : [0, record.value?.duration ?? 1],
);

const panels = computed<Panel[]>(() => {
  const pv = state.detail?.pv;
  const op = state.detail?.op;
  if (!pv || !op) return [];
  const shown = curve.value;
  if (shown) {
    const { times } = shown;
    const measured = { label: "PV", times, values: shown.measured, colour: "--measured", width: 1 };
    const modelled = { label: "model", times, values: shown.modelled, colour: "--pv", width: 2.2 };
    const left = { label: "res.", times, values: shown.residual, colour: "--measured", width: 1 };
    const input = { label: "OP", times, values: shown.input, colour: "--op", stepped: true };
    const unit = pv.span.unit;
    return [
      { key: "fit", title: pv.tag, unit, curves: [measured, modelled], weight: 3 },
      { key: "left", title: "PV − model", unit, curves: [left], weight: 1, include: [0] },
      { key: "op", title: op.tag, unit: "%", curves: [input], weight: 1.3, limits: { low: 0, high: 100 } },
    ];
  }
  const raw = samples.value;
  const channel = (role: string) => raw?.channels.find((known) => known.role === role);
  if (!raw || !channel("pv") || !channel("op")) return [];
  const plain = (role: string, label: string, colour: string) => ({
    label,
    times: raw.times,
    values: channel(role)?.values ?? [],
    colour,
    stepped: role === "op",
  });
  return [
    { key: "pv", title: pv.tag, unit: pv.span.unit, curves: [plain("pv", "PV", "--measured")], weight: 3 },
    { key: "op", title: op.tag, unit: "%", curves: [plain("op", "OP", "--op")], weight: 1.3 },
  ];
});

async function fit() {
  if (!record.value || fitting.value) return;
  fitting.value = true;
  refusal.value = "";
  try {
    const added = await answered(
      api.POST("/api/v1/loops/{tag}/models", {
        params: { path: { tag: state.tag } },
        body: { record_id: record.value.id, from: from.value, to: to.value },
      }),
    );
    await refreshModels();
    selected.value = added.id;
  } catch (error) {
    refusal.value = messageOf(error);
  } finally {
    fitting.value = false;
  }
}

function takeView() {
  const view = strip.value?.view();
  if (!view) return;
  from.value = Number(view[0].toFixed(3));
  to.value = Number(view[1].toFixed(3));
}

async function select(row: ModelRow) {
  await router.replace({ query: { model: row.id, record: row.record_id } });
}

async function choose(row: ModelRow) {
  try {
    await answered(api.PUT("/api/v1/models/{id}/chosen", { params: { path: { id: row.id } } }));
    await refreshModels();
  } catch (error) {
    refusal.value = messageOf(error);
  }
}

function pickRecord(event: Event) {
  void router.replace({ query: { record: (event.target as HTMLSelectElement).value } });
  from.value = null;
  to.value = null;
}

const parameters = computed(() => {
  const found = model.value?.model.parameters;
  if (!found) return [];
  return [
    { name: "Gain", ...found.gain },
    { name: "Time constant", ...found.time_constant },
    { name: "Dead time", ...found.dead_time },
  ];
});

const isDoubtful = computed(
  () => model.value?.model.verdicts.some((verdict) => verdict.tone === "bad") ?? false,
);

/** Value and standard error to the same decimal place: that of the error's second digit. */
function withError(value: number, error: number | null | undefined): [string, string] {
  if (!error) return [number(value, 4), "–"];
  const decimals = Math.max(0, 1 - Math.floor(Math.log10(error)));
  return [value.toFixed(Math.min(decimals, 9)).replace("-", "−"), error.toFixed(Math.min(decimals, 9))];
}

useKeys({ f: () => void fit() });

const columns = [
  { key: "name", title: "Model", text: true },
  { key: "record", title: "record", text: true },
  { key: "window", title: "window", text: true },
  { key: "gain", title: "gain" },
  { key: "tau", title: "time constant", unit: "s" },
  { key: "theta", title: "dead time", unit: "s" },
  { key: "left", title: "residual" },
  { key: "fit", title: "fit", unit: "%" },
  { key: "state", title: "", text: true },
];
</script>

<template>
  <StepFrame>
    <template #strip>
      <StateNotice v-if="failure" kind="failed" title="The model cannot be shown" :retry="() => fetchCurve()">
        {{ failure }}
      </StateNotice>
      <StateNotice v-else-if="!record" kind="empty" title="Nothing to model yet">
        A model needs a record: load one at Measure first.
      </StateNotice>
      <StateNotice v-else-if="panels.length === 0" kind="loading" title="Curves on their way" />
      <TimeStrip
        v-else
        ref="strip"
        :key="model?.id ?? record.id"
        :panels="panels"
        :extent="extent"
        :label="`Fit of ${state.tag}: measured and modelled PV, residual, OP`"
        @view="viewed"
      />
    </template>
    <template #margin>
      <h1 class="heading mb-2">
        {{ model ? `Model ${letter(model.number)}` : "No model yet" }}
        <span class="ml-1 text-[13px] font-normal text-soft">first order plus dead time</span>
      </h1>
      <table v-if="model" class="mb-1 w-full" aria-label="Parameters">
        <thead class="text-[12px] text-soft">
          <tr>
            <th class="text-left font-normal">parameter</th>
            <th class="text-right font-normal">value</th>
            <th class="text-right font-normal">± std. error</th>
            <th class="pl-2 text-left font-normal">unit</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="parameter in parameters" :key="parameter.name" class="border-t border-rule">
            <td class="py-[3px]">{{ parameter.name }}</td>
            <td class="text-right text-[15px] font-semibold">
              {{ withError(parameter.value, parameter.standard_error)[0] }}
            </td>
            <td class="text-right">{{ withError(parameter.value, parameter.standard_error)[1] }}</td>
            <td class="pl-2 text-soft">{{ parameter.unit }}</td>
          </tr>
          <tr class="border-t border-rule">
            <td class="py-[3px]">Fit</td>
            <td class="text-right text-[15px] font-semibold">{{ number(model.model.fit_percent, 4) }}</td>
            <td></td>
            <td class="pl-2 text-soft">%</td>
          </tr>
          <tr class="border-t border-rule">
            <td class="py-[3px]">Residual</td>
            <td class="text-right font-semibold">{{ number(model.model.residual_deviation) }}</td>
            <td></td>
            <td class="pl-2 text-soft">{{ state.detail?.pv.span.unit }}</td>
          </tr>
        </tbody>
      </table>
      <div v-if="model" class="my-3 grid gap-2">
        <VerdictNote v-for="verdict in model.model.verdicts" :key="verdict.text" :verdict="verdict" />
        <button
          type="button"
          class="button justify-self-start"
          :class="isDoubtful ? '' : 'button-main'"
          @click="router.push({ name: 'control' })"
        >
          {{ isDoubtful ? "Control with it all the same" : "Control with it" }}
        </button>
      </div>
      <hr class="my-3 border-dashed border-rule" />
      <div class="grid gap-2">
        <label class="grid grid-cols-[1fr_200px] items-center gap-2">
          Record
          <select class="entry" :value="record?.id" @change="pickRecord">
            <option v-for="known in state.records" :key="known.id" :value="known.id">{{ known.name }}</option>
          </select>
        </label>
        <NumberField v-model="from" label="From" unit="s" :min="0" when-empty="start" />
        <NumberField v-model="to" label="To" unit="s" :min="0" when-empty="end" />
        <div class="flex gap-2">
          <button
            type="button"
            class="button"
            :class="model ? '' : 'button-main'"
            :disabled="!record || fitting"
            @click="fit"
          >
            {{ fitting ? "Fitting …" : "Fit" }} <kbd class="key">f</kbd>
          </button>
          <button type="button" class="button" :disabled="!record" @click="takeView">Window as shown</button>
        </div>
        <p v-if="refusal" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ refusal }}
        </p>
        <p class="text-[12.5px] text-soft">
          Output-error least squares; the dead time is not rounded to the sample. Standard errors hold for
          white residuals.
        </p>
      </div>
    </template>
    <template #trail>
      <TrailTable
        v-if="state.models.length"
        label="Models"
        :rows="state.models"
        :columns="columns"
        :selected="model?.id ?? null"
        @select="select"
      >
        <template #name="{ row }"
          ><strong class="font-semibold">{{ letter(row.number) }}</strong> FOPDT</template
        >
        <template #record="{ row }">{{ row.record_name }}</template>
        <template #window="{ row }"
          >{{ duration(row.window_from) }} to {{ duration(row.window_to) }}</template
        >
        <template #gain="{ row }">
          {{ number(row.model.parameters.gain.value) }}
          <span class="text-soft">{{ row.model.parameters.gain.unit }}</span>
        </template>
        <template #tau="{ row }">{{ number(row.model.parameters.time_constant.value) }}</template>
        <template #theta="{ row }">{{ number(row.model.parameters.dead_time.value) }}</template>
        <template #left="{ row }">
          {{ number(row.model.residual_deviation) }}
          <span class="text-soft">{{ state.detail?.pv.span.unit }}</span>
        </template>
        <template #fit="{ row }">{{ number(row.model.fit_percent, 4) }}</template>
        <template #state="{ row }">
          <strong v-if="row.chosen" class="font-semibold">chosen</strong>
          <button v-else type="button" class="button !py-0" @click.stop="choose(row)">choose</button>
          <span v-if="row.stale" class="ml-2 text-caution">stale</span>
        </template>
      </TrailTable>
      <p v-else class="p-4 text-soft">
        Every model that is fitted will stand here, with its parameters and fit.
      </p>
    </template>
  </StepFrame>
</template>
