<script setup lang="ts">
import { computed, ref, useTemplateRef, watch } from "vue";
import { useRouter } from "vue-router";
import { answered, api, isAbort, messageOf, type RecordInfo, type Schemas } from "../api/client";
import ImportDialog from "../components/ImportDialog.vue";
import SpanEditor from "../components/SpanEditor.vue";
import StateNotice from "../components/StateNotice.vue";
import StepFrame from "../components/StepFrame.vue";
import TimeStrip from "../components/TimeStrip.vue";
import TrailTable from "../components/TrailTable.vue";
import { duration, number } from "../lib/format";
import { useKeys } from "../lib/keys";
import { useLoop } from "../lib/loop";
import { useSelected } from "../lib/query";
import type { Panel } from "../lib/strip";

const { state, refreshRecords } = useLoop();
const router = useRouter();
const selected = useSelected("record");
const record = computed(
  () => state.records.find((known) => known.id === selected.value) ?? state.records[0] ?? null,
);
const samples = ref<Schemas["Samples"] | null>(null);
const failure = ref("");
const file = ref<File | null>(null);
const dragging = ref(false);
const chooser = useTemplateRef<HTMLInputElement>("chooser");
let aborter = new AbortController();
let waiting = 0;

watch(record, () => void fetchSamples(), { immediate: true });

async function fetchSamples(view?: [number, number]) {
  aborter.abort();
  aborter = new AbortController();
  failure.value = "";
  if (!view) samples.value = null;
  if (!record.value) return;
  const query = { buckets: 900, ...(view ? { from: view[0], to: view[1] } : {}) };
  try {
    samples.value = await answered(
      api.GET("/api/v1/records/{id}/samples", {
        params: { path: { id: record.value.id }, query },
        signal: aborter.signal,
      }),
    );
  } catch (error) {
    if (!isAbort(error)) failure.value = messageOf(error);
  }
}

/** A closer look needs finer samples, where there are more than are drawn. */
function viewed(from: number, to: number) {
  window.clearTimeout(waiting);
  const all = record.value?.length ?? 0;
  if (all > 4500) waiting = window.setTimeout(() => void fetchSamples([from, to]), 60);
}

const styles: Record<
  Schemas["Role"],
  { colour: string; weight: number; stepped?: boolean; dash?: number[] }
> = {
  pv: { colour: "--measured", weight: 3 },
  sp: { colour: "--ink", weight: 3, dash: [5, 4], stepped: true },
  op: { colour: "--op", weight: 1.6, stepped: true },
  dv: { colour: "--dv", weight: 1 },
  other: { colour: "--over-2", weight: 1 },
};

const panels = computed<Panel[]>(() => {
  const found = samples.value;
  if (!found) return [];
  const short = (tag: string) => tag.split(".").at(-1)?.slice(0, 8) ?? tag;
  const list: Panel[] = [];
  for (const channel of found.channels) {
    const { weight, ...style } = styles[channel.role];
    const curve = { label: short(channel.tag), times: found.times, values: channel.values, ...style };
    const onPv = channel.role === "sp" ? list.find((panel) => panel.key === "pv") : undefined;
    if (onPv) onPv.curves.push(curve);
    else {
      const limits = channel.role === "op" ? { low: 0, high: 100 } : undefined;
      const key = channel.role === "pv" ? "pv" : channel.tag;
      list.push({ key, title: channel.tag, unit: channel.unit, curves: [curve], weight, limits });
    }
  }
  const order = (panel: Panel) => -panel.weight;
  return list.sort((a, b) => order(a) - order(b));
});

function choose(files: FileList | null | undefined) {
  file.value = files?.[0] ?? null;
  if (chooser.value) chooser.value.value = "";
}

async function imported(added: RecordInfo) {
  file.value = null;
  await refreshRecords();
  selected.value = added.id;
}

useKeys({ l: () => chooser.value?.click() });

const columns = [
  { key: "name", title: "Record", text: true },
  { key: "origin", title: "from", text: true },
  { key: "started", title: "start", text: true },
  { key: "channels", title: "channels", text: true },
  { key: "duration", title: "length" },
  { key: "interval", title: "sample time", unit: "s" },
  { key: "samples", title: "samples" },
];
</script>

<template>
  <StepFrame
    @dragover.prevent="dragging = true"
    @dragleave.self="dragging = false"
    @drop.prevent="((dragging = false), choose($event.dataTransfer?.files))"
  >
    <template #strip>
      <div
        v-if="dragging"
        class="absolute inset-6 z-30 grid place-items-center rounded-lg border-2 border-dashed border-pv bg-paper/90"
      >
        <p class="heading">Drop the file: it becomes a record of {{ state.tag }}</p>
      </div>
      <StateNotice
        v-if="failure"
        kind="failed"
        title="The record cannot be shown"
        :retry="() => fetchSamples()"
      >
        {{ failure }}
      </StateNotice>
      <StateNotice v-else-if="!record" kind="empty" title="No record yet">
        Drop a CSV file of {{ state.tag }} here, with its PV and OP, or choose one at the right.
      </StateNotice>
      <StateNotice v-else-if="!samples" kind="loading" title="Samples on their way" />
      <TimeStrip
        v-else
        :key="record.id"
        :panels="panels"
        :extent="[0, record.duration]"
        :label="`Record ${record.name} of ${state.tag} over ${duration(record.duration)}`"
        @view="viewed"
      />
    </template>
    <template #margin>
      <h1 class="heading mb-2">{{ record ? record.name : "Record" }}</h1>
      <dl v-if="record" class="mb-3 grid grid-cols-[auto_1fr] gap-x-4 gap-y-[3px]">
        <dt class="text-soft">from</dt>
        <dd class="truncate text-right" :title="record.origin">{{ record.origin }}</dd>
        <template v-if="record.started">
          <dt class="text-soft">start</dt>
          <dd class="text-right">{{ record.started.replace("T", " ").replace(/\.000/, "") }}</dd>
        </template>
        <dt class="text-soft">length</dt>
        <dd class="text-right">{{ duration(record.duration) }}</dd>
        <dt class="text-soft">sample time</dt>
        <dd class="text-right">
          {{ record.sample_interval ? `${number(record.sample_interval)} s` : "uneven" }}
        </dd>
        <dt class="text-soft">samples</dt>
        <dd class="text-right">{{ record.length }}</dd>
      </dl>
      <ul v-if="record?.notes.length" class="mb-3 grid gap-2">
        <li v-for="note in record.notes" :key="note" class="border-l-[3px] border-caution pl-3">
          {{ note }}
        </li>
      </ul>
      <div class="mb-4 flex flex-wrap gap-2">
        <button
          v-if="record"
          type="button"
          class="button button-main"
          @click="router.push({ name: 'model', query: { record: record.id } })"
        >
          Model it
        </button>
        <button type="button" class="button" @click="chooser?.click()">
          Load a file <kbd class="key">l</kbd>
        </button>
        <input
          ref="chooser"
          type="file"
          class="sr-only"
          tabindex="-1"
          accept=".csv,.txt,.tsv,text/*"
          aria-label="File with a record"
          @change="choose(($event.target as HTMLInputElement).files)"
        />
      </div>
      <hr class="mb-3 border-dashed border-rule" />
      <SpanEditor />
    </template>
    <template #trail>
      <TrailTable
        v-if="state.records.length"
        label="Records"
        :rows="state.records"
        :columns="columns"
        :selected="record?.id ?? null"
        @select="selected = $event.id"
      >
        <template #name="{ row }"
          ><strong class="font-semibold">{{ row.name }}</strong></template
        >
        <template #origin="{ row }">{{ row.origin }}</template>
        <template #started="{ row }">{{
          row.started?.replace("T", " ").replace(/\.000/, "") ?? "–"
        }}</template>
        <template #channels="{ row }">{{
          row.channels.map((channel) => channel.role.toUpperCase()).join(", ")
        }}</template>
        <template #duration="{ row }">{{ duration(row.duration) }}</template>
        <template #interval="{ row }">{{
          row.sample_interval ? number(row.sample_interval) : "uneven"
        }}</template>
        <template #samples="{ row }">{{ row.length }}</template>
      </TrailTable>
      <p v-else class="p-4 text-soft">Records of this loop will stand here.</p>
    </template>
  </StepFrame>
  <ImportDialog :file="file" @close="file = null" @imported="imported" />
</template>
