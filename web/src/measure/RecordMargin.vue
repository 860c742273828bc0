<script setup lang="ts">
/** What a record is, what is to be thought of it, and the ways on: model it, load another, save it. */
import { useRouter } from "vue-router";
import type { RecordInfo, Schemas } from "../api/client";
import SpanEditor from "../components/SpanEditor.vue";
import { duration, number } from "../lib/format";
import FindingList from "./FindingList.vue";

defineProps<{
  record: RecordInfo | null;
  inspection: Schemas["Inspection"] | null;
  problem: string;
  shown: Schemas["Finding"] | null;
}>();
const emit = defineEmits<{ load: []; show: [finding: Schemas["Finding"] | null] }>();
const router = useRouter();
const formats = ["csv", "tsv", "xlsx", "parquet", "json"];

function save(record: RecordInfo, format: string) {
  const prepared = record.preparation.length > 0;
  window.location.assign(`/api/v1/records/${record.id}/file?format=${format}&prepared=${prepared}`);
}
</script>

<template>
  <h1 class="heading mb-2">{{ record ? record.name : "Record" }}</h1>
  <dl v-if="record" class="mb-3 grid grid-cols-[auto_1fr] gap-x-4 gap-y-[3px]">
    <dt class="text-soft">from</dt>
    <dd class="truncate text-right" :title="record.origin">{{ record.origin }}</dd>
    <template v-if="record.started">
      <dt class="text-soft">start</dt>
      <dd class="text-right">{{ record.started.replace("T", " ").replace(/\.000/, "") }}</dd>
    </template>
    <dt class="text-soft">length</dt>
    <dd class="text-right">
      {{ duration(record.duration) }}, {{ record.length }} samples
      {{ record.sample_interval ? `at ${number(record.sample_interval)} s` : "at uneven times" }}
    </dd>
  </dl>
  <p v-if="record?.remark" class="mb-3 border-l-[3px] border-rule pl-3 whitespace-pre-wrap">
    {{ record.remark }}
  </p>
  <ul v-if="record?.notes.length" class="mb-3 grid gap-2">
    <li v-for="note in record.notes" :key="note" class="border-l-[3px] border-caution pl-3">{{ note }}</li>
  </ul>
  <p v-if="record && !inspection && !problem" class="mb-3 text-soft" role="status">Judging the record …</p>
  <p v-if="problem" class="mb-3 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
    {{ problem }}
  </p>
  <FindingList
    v-if="inspection"
    :findings="inspection.findings"
    :shown="shown"
    @show="emit('show', $event)"
  />
  <div class="mb-4 flex flex-wrap gap-2">
    <button
      v-if="record"
      type="button"
      class="button button-main"
      @click="router.push({ name: 'model', query: { record: record.id } })"
    >
      Model it
    </button>
    <button type="button" class="button" data-load @click="emit('load')">
      Load a file <kbd class="key">l</kbd>
    </button>
    <select
      v-if="record"
      class="entry"
      aria-label="Save the record"
      :value="''"
      @change="save(record, ($event.target as HTMLSelectElement).value)"
    >
      <option value="" disabled>Save as …</option>
      <option v-for="format in formats" :key="format" :value="format">{{ format.toUpperCase() }}</option>
    </select>
  </div>
  <hr class="mb-3 border-dashed border-rule" />
  <SpanEditor />
</template>
