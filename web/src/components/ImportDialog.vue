<script setup lang="ts">
/** A file becomes a record: which column is what, in which unit, at which times. */
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { computed, nextTick, ref, useTemplateRef, watch } from "vue";
import { answered, api, messageOf, type RecordInfo, type Schemas } from "../api/client";
import { number } from "../lib/format";
import { useLoop } from "../lib/loop";

const props = defineProps<{ file: File | null }>();
const emit = defineEmits<{ close: []; imported: [record: RecordInfo] }>();

type Use = "time" | "pv" | "op" | "sp" | "dv" | "other" | "none";
interface ColumnChoice {
  use: Use;
  unit: string;
}

const { state } = useLoop();
const status = ref<"reading" | "ready" | "importing" | "failed">("reading");
const problem = ref("");
const upload = ref<Schemas["UploadedFile"] | null>(null);
const choices = ref<ColumnChoice[]>([]);
const name = ref("");
const timing = ref<"column" | "interval">("column");
const interval = ref("1");
const dateOrder = ref<"" | Schemas["DateOrder"]>("");
const importButton = useTemplateRef<HTMLButtonElement>("importButton");
/** The import that is under way, and which share of it is done. */
const underWay = ref<string | null>(null);
const share = ref(0);
let aborter = new AbortController();

const uses: [Use, string][] = [
  ["none", "leave out"],
  ["time", "time"],
  ["pv", "PV"],
  ["op", "OP"],
  ["sp", "SP"],
  ["dv", "DV"],
  ["other", "other"],
];

watch(() => props.file, take, { immediate: true });

async function take(file: File | null) {
  aborter.abort();
  aborter = new AbortController();
  if (!file) return;
  status.value = "reading";
  problem.value = "";
  upload.value = null;
  name.value = file.name.replace(/\.[^.]*$/, "");
  try {
    const taken = await answered(
      api.POST("/api/v1/uploads", {
        params: { query: { name: file.name } },
        body: file as unknown as string,
        bodySerializer: (body) => body as unknown as BodyInit,
        headers: { "Content-Type": "application/octet-stream" },
        signal: aborter.signal,
      }),
    );
    upload.value = taken;
    adopt(taken.preview);
    status.value = "ready";
    await nextTick();
    importButton.value?.focus();
  } catch (error) {
    if (aborter.signal.aborted) return;
    problem.value = messageOf(error);
    status.value = "failed";
  }
}

/** Starts from what the server guesses, with the units of the loop where the file has none. */
function adopt({ columns, guess }: Schemas["Preview"]) {
  const byColumn = guess.time.kind === "column" ? guess.time.column : null;
  timing.value = byColumn === null ? "interval" : "column";
  choices.value = columns.map((column) => {
    if (column.name === byColumn) return { use: "time", unit: column.unit };
    const channel = guess.channels.find((known) => known.column === column.name);
    const use: Use = channel?.role ?? "none";
    const fallback =
      use === "op" ? "%" : use === "pv" || use === "sp" ? (state.detail?.pv.span.unit ?? "") : "";
    return { use, unit: column.unit || fallback };
  });
}

const preview = computed(() => upload.value?.preview ?? null);
const complaint = computed(() => {
  const count = (use: Use) => choices.value.filter((choice) => choice.use === use).length;
  if (count("pv") !== 1) return "Choose one column as PV.";
  if (count("op") !== 1) return "Choose one column as OP.";
  if (timing.value === "column" && count("time") !== 1)
    return "Choose one column as time, or a fixed sample time.";
  if (timing.value === "interval" && !(Number(interval.value.replace(",", ".")) > 0)) {
    return "The sample time must be above 0 s.";
  }
  return name.value.trim() ? "" : "Give the record a name.";
});

function mapping(): Schemas["Mapping"] {
  const columns = preview.value?.columns ?? [];
  const timeColumn = columns.find((_, k) => choices.value[k]?.use === "time");
  const channels = columns.flatMap((column, k) => {
    const choice = choices.value[k];
    if (!choice || choice.use === "time" || choice.use === "none") return [];
    return [{ column: column.name, role: choice.use, tag: column.name, unit: choice.unit }];
  });
  const time: Schemas["TimeSource"] =
    timing.value === "interval" || !timeColumn
      ? { kind: "interval", seconds: Number(interval.value.replace(",", ".")) }
      : { kind: "column", column: timeColumn.name, date_order: dateOrder.value || null, unit: null };
  return { time, channels };
}

async function importFile() {
  if (!upload.value || complaint.value) return;
  status.value = "importing";
  problem.value = "";
  share.value = 0;
  try {
    let progress = await answered(
      api.POST("/api/v1/loops/{tag}/imports", {
        params: { path: { tag: state.tag } },
        body: { upload_id: upload.value.id, name: name.value, mapping: mapping() },
      }),
    );
    underWay.value = progress.id;
    while (progress.stage === "running") {
      await new Promise((resolve) => setTimeout(resolve, 60));
      progress = await answered(api.GET("/api/v1/imports/{id}", { params: { path: { id: progress.id } } }));
      share.value = progress.share;
    }
    if (progress.record) emit("imported", progress.record);
    else problem.value = progress.problem?.detail ?? "The import failed.";
  } catch (error) {
    problem.value = messageOf(error);
  } finally {
    underWay.value = null;
    if (status.value === "importing") status.value = "ready";
  }
}

async function close() {
  aborter.abort();
  const id = underWay.value;
  if (id) {
    await answered(api.DELETE("/api/v1/imports/{id}", { params: { path: { id } } })).catch(() => undefined);
    return;
  }
  emit("close");
}
</script>

<template>
  <Dialog :open="file !== null" class="relative z-40" @close="close">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-6">
      <DialogPanel
        class="flex max-h-full w-[900px] flex-col rounded-lg border border-rule bg-paper p-5 shadow-xl"
      >
        <DialogTitle class="heading">
          {{ file?.name }}
          <span v-if="upload" class="ml-2 text-[13px] font-normal text-soft">
            {{ number(upload.bytes / 1024) }} KiB · {{ preview?.form }} · decimal
            {{ preview?.decimal_comma ? "comma" : "point" }}
          </span>
        </DialogTitle>
        <p v-if="status === 'reading'" class="py-8 text-center text-soft" role="status">Reading the file …</p>
        <template v-if="preview">
          <div class="mt-3 min-h-0 overflow-auto border border-rule bg-sheet">
            <table class="w-full border-collapse text-[13px]">
              <thead>
                <tr>
                  <th
                    v-for="(column, k) in preview.columns"
                    :key="column.name"
                    class="border-b border-rule p-2 text-left align-top font-semibold"
                  >
                    <span class="block max-w-[200px] truncate" :title="column.name">{{ column.name }}</span>
                    <select
                      v-if="choices[k]"
                      v-model="choices[k].use"
                      class="entry mt-1 w-full font-normal"
                      :aria-label="`Use of ${column.name}`"
                    >
                      <option v-for="[use, words] in uses" :key="use" :value="use">{{ words }}</option>
                    </select>
                    <label
                      v-if="choices[k] && !['time', 'none'].includes(choices[k].use)"
                      class="mt-1 flex items-center gap-1 font-normal text-soft"
                    >
                      unit <input v-model="choices[k].unit" class="entry w-full text-ink" size="6" />
                    </label>
                  </th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="(row, k) in preview.rows" :key="k" class="border-b border-rule last:border-0">
                  <td
                    v-for="(column, c) in preview.columns"
                    :key="column.name"
                    class="px-2 py-1 whitespace-nowrap"
                    :class="choices[c]?.use === 'none' ? 'text-soft opacity-60' : ''"
                  >
                    {{ row[c] }}
                  </td>
                </tr>
              </tbody>
            </table>
          </div>
          <div class="mt-4 flex flex-wrap items-center gap-x-6 gap-y-2">
            <label class="flex items-center gap-2">
              Name <input v-model="name" class="entry w-[220px]" maxlength="120" />
            </label>
            <label class="flex items-center gap-2">
              <input v-model="timing" type="radio" value="column" /> time from the column
            </label>
            <label v-if="timing === 'column'" class="flex items-center gap-2">
              dates
              <select v-model="dateOrder" class="entry" aria-label="Order of day and month">
                <option value="">as they fit</option>
                <option value="day_month_year">day/month/year</option>
                <option value="month_day_year">month/day/year</option>
                <option value="year_month_day">year/month/day</option>
              </select>
            </label>
            <label class="flex items-center gap-2">
              <input v-model="timing" type="radio" value="interval" /> a row every
              <input
                v-model="interval"
                class="entry w-[64px] text-right"
                inputmode="decimal"
                aria-label="Sample time in s"
                @focus="timing = 'interval'"
              />
              s
            </label>
          </div>
        </template>
        <p v-if="problem" class="mt-3 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ problem }}
        </p>
        <div class="mt-4 flex items-center gap-3">
          <button
            ref="importButton"
            type="button"
            class="button button-main"
            :disabled="status !== 'ready' || complaint !== ''"
            @click="importFile"
          >
            {{ status === "importing" ? "Importing …" : "Import" }}
          </button>
          <button type="button" class="button" @click="close">
            {{ underWay ? "Cancel the import" : "Cancel" }}
          </button>
          <progress
            v-if="status === 'importing'"
            class="h-2 w-[220px] accent-(--pv)"
            :value="share"
            max="1"
            aria-label="Import"
          />
          <span v-if="status === 'importing'" class="text-soft">{{ Math.round(100 * share) }} %</span>
          <span v-if="status === 'ready' && complaint" class="text-caution">{{ complaint }}</span>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
