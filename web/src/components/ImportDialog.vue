<script setup lang="ts">
/** A file becomes a record: which column is what, in which unit, at which times; what was guessed can be changed. */
import { computed, nextTick, ref, useTemplateRef, watch } from "vue";
import { answered, api, fieldOf, messageOf, type RecordInfo, type Schemas } from "../api/client";
import { number, readNumber } from "../lib/format";
import { useLoop } from "../lib/loop";
import { lookAgain, takeImport, uploadFile } from "../measure/files";
import DialogFrame from "./DialogFrame.vue";
import ProblemNote from "./ProblemNote.vue";

const props = defineProps<{ file: File | null }>();
const emit = defineEmits<{ close: []; imported: [record: RecordInfo] }>();

type Use = "time" | "clock" | "pv" | "op" | "sp" | "dv" | "other" | "none";
interface ColumnChoice {
  use: Use;
  unit: string;
}

const { state } = useLoop();
const status = ref<"reading" | "ready" | "importing" | "failed">("reading");
const problem = ref("");
const field = ref("");
const upload = ref<Schemas["UploadedFile"] | null>(null);
const choices = ref<ColumnChoice[]>([]);
const name = ref("");
const timing = ref<"column" | "interval">("column");
const interval = ref("1");
const dateOrder = ref<"" | Schemas["DateOrder"]>("");
const timeUnit = ref<"" | Schemas["TimeUnit"]>("");
const gaps = ref<"" | Schemas["GapMeaning"]>("");
const headerRow = ref("");
const importButton = useTemplateRef<HTMLButtonElement>("importButton");
/** The import that is under way, and which share of it is done. */
const underWay = ref<string | null>(null);
const share = ref(0);
const words = ref("");
const takenOnly = ref(false);
let aborter = new AbortController();

const uses: [Use, string][] = [
  ["none", "leave out"],
  ["time", "time"],
  ["clock", "time of day"],
  ["pv", "PV"],
  ["op", "OP"],
  ["sp", "SP"],
  ["dv", "DV"],
  ["other", "other"],
];
const timeUnits: [Schemas["TimeUnit"], string][] = [
  ["ms", "ms"],
  ["s", "s"],
  ["min", "min"],
  ["h", "h"],
  ["d", "days"],
  ["serial_day", "days since 1899 (spreadsheets)"],
  ["unix", "seconds since 1970"],
  ["unix_ms", "ms since 1970"],
];

watch(() => props.file, take, { immediate: true });

async function take(file: File | null) {
  aborter.abort();
  aborter = new AbortController();
  if (!file) return;
  status.value = "reading";
  [problem.value, field.value, words.value, takenOnly.value] = ["", "", "", false];
  upload.value = null;
  name.value = file.name.replace(/\.[^.]*$/, "");
  try {
    const taken = await uploadFile(file, aborter.signal);
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
function adopt({ columns, guess, reading }: Schemas["Preview"]) {
  const { time } = guess;
  const date = time.kind === "column" ? time.column : time.kind === "date_and_time" ? time.date : null;
  const clock = time.kind === "date_and_time" ? time.time : null;
  timing.value = date === null ? "interval" : "column";
  timeUnit.value = time.kind === "column" ? (time.unit ?? "") : "";
  headerRow.value = reading.header_row == null ? "" : String(reading.header_row);
  const span = state.detail?.pv.span.unit ?? "";
  choices.value = columns.map((column) => {
    if (column.name === date) return { use: "time", unit: column.unit };
    if (column.name === clock) return { use: "clock", unit: "" };
    const channel = guess.channels.find((known) => known.column === column.name);
    const use: Use = channel?.role ?? "none";
    const fallback = use === "op" ? "%" : use === "pv" || use === "sp" ? span : "";
    return { use, unit: column.unit || fallback };
  });
}

/** Reads the file in another way: another sheet, another row of names, another form. */
async function readAgain(change: Partial<Schemas["Reading"]>) {
  const file = upload.value;
  if (!file) return;
  const { reading } = file.preview;
  const typed = headerRow.value.trim() === "" ? null : Number(headerRow.value);
  const wanted: Schemas["Reading"] = {
    sheet: reading.sheet ?? null,
    header_row: typed !== null && Number.isInteger(typed) && typed >= 0 ? typed : null,
    form: file.preview.guess.reading?.form ?? null,
    ...change,
  };
  problem.value = "";
  try {
    const seen = await lookAgain(file.id, wanted);
    upload.value = seen;
    adopt(seen.preview);
  } catch (error) {
    problem.value = messageOf(error);
  }
}

function setHeaderRow() {
  const typed = Number(headerRow.value);
  if (headerRow.value.trim() === "" || !Number.isInteger(typed) || typed < 0) {
    problem.value = `The row of names is “${headerRow.value}”: give its number in the file, or 0 where there is none.`;
    return;
  }
  void readAgain({ header_row: typed });
}

const preview = computed(() => upload.value?.preview ?? null);
const isLong = computed(() => preview.value?.reading.form === "long");
const hasTimeNumbers = computed(() => {
  const k = choices.value.findIndex((choice) => choice.use === "time");
  return preview.value?.columns[k]?.kind === "number";
});
const complaint = computed(() => {
  const count = (use: Use) => choices.value.filter((choice) => choice.use === use).length;
  if (count("pv") !== 1)
    return count("pv") ? "Two columns are the PV: choose one." : "Choose one column as PV.";
  if (count("op") !== 1)
    return count("op") ? "Two columns are the OP: choose one." : "Choose one column as OP.";
  if (count("sp") > 1) return "Two columns are the SP: choose one.";
  if (timing.value === "column" && count("time") !== 1)
    return "Choose one column as time, or a fixed sample time.";
  if (count("clock") > 1) return "Choose one column as time of day.";
  if (timing.value === "interval" && !(readNumber(interval.value) > 0))
    return `The sample time is “${interval.value}”: it must be a number above 0.`;
  return name.value.trim() ? "" : "Give the record a name.";
});

/** The columns that are shown: those that are searched for, or taken. */
const rows = computed(() => {
  const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean);
  return (preview.value?.columns ?? [])
    .map((column, k) => ({ column, k }))
    .filter(
      ({ column, k }) =>
        wanted.every((word) => column.name.toLowerCase().includes(word)) &&
        (!takenOnly.value || choices.value[k]?.use !== "none"),
    );
});
const taken = computed(() => choices.value.filter((choice) => choice.use !== "none").length);

function takeAll(use: "none" | "other") {
  for (const { column, k } of rows.value) {
    const choice = choices.value[k];
    if (!choice || ["time", "clock", "pv", "op", "sp"].includes(choice.use)) continue;
    choice.use = use === "other" && column.kind !== "number" ? "none" : use;
  }
}

function samples(k: number): string {
  const cells = (preview.value?.rows ?? []).map((row) => row[k] ?? "").filter(Boolean);
  return cells.slice(0, 4).join("   ");
}

function mapping(): Schemas["Mapping"] {
  const columns = preview.value?.columns ?? [];
  const called = (use: Use) => columns.find((_, k) => choices.value[k]?.use === use)?.name;
  const channels = columns.flatMap((column, k) => {
    const choice = choices.value[k];
    if (!choice || ["time", "clock", "none"].includes(choice.use)) return [];
    return [
      {
        column: column.name,
        role: choice.use as Schemas["Role"],
        tag: column.name,
        unit: choice.unit.trim(),
      },
    ];
  });
  const [column, clock] = [called("time"), called("clock")];
  const date_order = dateOrder.value || null;
  const time: Schemas["TimeSource"] =
    timing.value === "interval" || !column
      ? { kind: "interval", seconds: readNumber(interval.value) }
      : clock
        ? { kind: "date_and_time", date: column, time: clock, date_order }
        : { kind: "column", column, date_order, unit: timeUnit.value || null };
  return { reading: preview.value?.guess.reading, time, gaps: gaps.value || null, channels };
}

/** The column that a refusal is about. */
const refusedColumn = computed(() => {
  const found = /^mapping\.channels\.(\d+)\./.exec(field.value);
  return found ? mapping().channels[Number(found[1])]?.column : undefined;
});

async function importFile() {
  if (!upload.value || complaint.value) return;
  status.value = "importing";
  [problem.value, field.value] = ["", ""];
  share.value = 0;
  try {
    const record = await takeImport(
      state.tag,
      upload.value.id,
      name.value,
      mapping(),
      (done) => (share.value = done),
      (id) => (underWay.value = id),
    );
    emit("imported", record);
  } catch (error) {
    problem.value = messageOf(error);
    field.value = fieldOf(error);
  } finally {
    underWay.value = null;
    if (status.value === "importing") status.value = "ready";
  }
}

async function close() {
  const id = underWay.value;
  if (id) {
    await answered(api.DELETE("/api/v1/imports/{id}", { params: { path: { id } } })).catch(() => undefined);
    return;
  }
  aborter.abort();
  emit("close");
}
</script>

<template>
  <DialogFrame
    :open="file !== null"
    :title="file?.name ?? ''"
    :note="
      upload
        ? `${number(upload.bytes / 1024)} KiB · ${preview?.form} · decimal ${preview?.decimal_comma ? 'comma' : 'point'}`
        : ''
    "
    width="920px"
    @close="close"
  >
    <p v-if="status === 'reading'" class="py-8 text-center text-soft" role="status">Reading the file …</p>
    <template v-if="preview">
      <div class="mt-2 flex flex-wrap items-center gap-x-5 gap-y-2">
        <label v-if="preview.reading.sheets.length > 1" class="flex items-center gap-2">
          sheet
          <select
            class="entry"
            :value="preview.reading.sheet"
            @change="readAgain({ sheet: ($event.target as HTMLSelectElement).value, header_row: null })"
          >
            <option v-for="sheet in preview.reading.sheets" :key="sheet" :value="sheet">{{ sheet }}</option>
          </select>
        </label>
        <label v-if="preview.reading.header_row != null" class="flex items-center gap-2">
          names in row
          <input
            v-model="headerRow"
            class="entry w-[56px] text-right"
            inputmode="numeric"
            aria-label="Row in which the names stand, 0 for none"
            @change="setHeaderRow"
          />
        </label>
        <label class="flex items-center gap-2">
          form
          <select
            class="entry"
            aria-label="Form of the table"
            :value="preview.reading.form"
            @change="readAgain({ form: ($event.target as HTMLSelectElement).value as Schemas['TableForm'] })"
          >
            <option value="wide">a column a signal</option>
            <option value="long">a row a value (tag, time, value)</option>
          </select>
        </label>
        <label class="flex items-center gap-2">
          {{ isLong ? "between its values a signal" : "an empty cell" }}
          <select v-model="gaps" class="entry" aria-label="What a gap means">
            <option value="">as its signal suggests</option>
            <option value="hold">holds the last value</option>
            <option value="between">lies between the values</option>
            <option value="missing">is missing</option>
          </select>
        </label>
      </div>
      <div v-if="preview.columns.length > 8" class="mt-2 flex flex-wrap items-center gap-3">
        <input
          v-model="words"
          class="entry w-[220px]"
          type="search"
          placeholder="search columns"
          aria-label="Search the columns"
        />
        <label class="flex items-center gap-2"
          ><input v-model="takenOnly" type="checkbox" /> taken ones only</label
        >
        <span class="text-soft">{{ taken }} of {{ preview.columns.length }} taken</span>
        <button type="button" class="button !py-[2px]" @click="takeAll('none')">Leave out all shown</button>
        <button type="button" class="button !py-[2px]" @click="takeAll('other')">Take all shown</button>
      </div>
      <div
        class="mt-2 min-h-[160px] overflow-auto border border-rule bg-sheet"
        tabindex="0"
        aria-label="Columns of the file"
        role="region"
      >
        <table class="w-full border-collapse text-[13px]">
          <thead class="sticky top-0 bg-sheet text-left text-[12px] text-soft">
            <tr>
              <th class="px-2 py-1 font-normal" scope="col">column</th>
              <th class="px-2 py-1 font-normal" scope="col">use as</th>
              <th class="px-2 py-1 font-normal" scope="col">unit</th>
              <th class="px-2 py-1 font-normal" scope="col">first values</th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="{ column, k } in rows"
              :key="column.name"
              class="border-t border-rule"
              :class="choices[k]?.use === 'none' ? 'text-soft' : ''"
            >
              <td class="max-w-[240px] truncate px-2 py-[3px] font-semibold" :title="column.header">
                {{ column.name }}
              </td>
              <td class="px-2 py-[3px]">
                <select
                  v-if="choices[k]"
                  v-model="choices[k].use"
                  class="entry"
                  :aria-label="`Use of ${column.name}`"
                >
                  <option v-for="[use, text] in uses" :key="use" :value="use">{{ text }}</option>
                </select>
              </td>
              <td class="px-2 py-[3px]">
                <input
                  v-if="choices[k] && !['time', 'clock', 'none'].includes(choices[k].use)"
                  v-model="choices[k].unit"
                  class="entry w-[80px] text-ink"
                  :class="refusedColumn === column.name ? '!border-limit' : ''"
                  maxlength="24"
                  :aria-label="`Unit of ${column.name}`"
                  :aria-invalid="refusedColumn === column.name"
                />
                <p
                  v-if="refusedColumn === column.name"
                  class="max-w-[260px] text-[12.5px] text-limit"
                  role="alert"
                >
                  {{ problem }}
                </p>
              </td>
              <td class="max-w-[340px] truncate px-2 py-[3px] whitespace-pre text-soft">{{ samples(k) }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="rows.length === 0" class="p-3 text-soft">No column has that name.</p>
      </div>
      <div class="mt-3 flex flex-wrap items-center gap-x-6 gap-y-2">
        <label class="flex items-center gap-2">
          Name <input v-model="name" class="entry w-[220px]" maxlength="120" />
        </label>
        <label class="flex items-center gap-2">
          <input v-model="timing" type="radio" value="column" /> time from the column
        </label>
        <label v-if="timing === 'column' && hasTimeNumbers" class="flex items-center gap-2">
          in
          <select v-model="timeUnit" class="entry" aria-label="Unit of the times">
            <option value="">as it fits</option>
            <option v-for="[unit, text] in timeUnits" :key="unit" :value="unit">{{ text }}</option>
          </select>
        </label>
        <label v-else-if="timing === 'column'" class="flex items-center gap-2">
          dates
          <select v-model="dateOrder" class="entry" aria-label="Order of day and month">
            <option value="">as they fit</option>
            <option value="day_month_year">day/month/year</option>
            <option value="month_day_year">month/day/year</option>
            <option value="year_month_day">year/month/day</option>
          </select>
        </label>
        <label v-if="!isLong" class="flex items-center gap-2">
          <input v-model="timing" type="radio" value="interval" /> a row every
          <input
            v-model="interval"
            class="entry w-[64px] text-right"
            inputmode="decimal"
            aria-label="Sample time in s"
            @input="timing = 'interval'"
          />
          s
        </label>
      </div>
    </template>
    <ProblemNote v-if="!refusedColumn" class="mt-3" :text="problem" />
    <div class="mt-3 flex flex-wrap items-center gap-3">
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
  </DialogFrame>
</template>
