<script setup lang="ts">
/** A file dropped at home: its columns propose the loops, and each gets the file as its first record. */
import { computed, nextTick, ref, useTemplateRef, watch } from "vue";
import { useRouter } from "vue-router";
import { answered, api, messageOf, type Schemas } from "../api/client";
import DialogFrame from "../components/DialogFrame.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { online } from "../lib/live";
import { tell } from "../lib/notes";
import { takeImport, uploadFile } from "../measure/files";
import { emptyCard, makeLoop, type AreaInfo } from "./loops";
import { pendingFile } from "./pending";

const props = defineProps<{ file: File | null }>();
const emit = defineEmits<{ close: []; single: [] }>();
const router = useRouter();

interface Row {
  taken: boolean;
  tag: string;
  channels: Schemas["ChannelMapping"][];
  problem: string;
  done: boolean;
}
const rows = ref<Row[]>([]);
/** Tags of the loops that are there. */
const known = ref<string[]>([]);
const area = ref("");
const areaEntry = useTemplateRef<HTMLInputElement>("area");
const areas = ref<AreaInfo[]>([]);
const upload = ref<Schemas["UploadedFile"] | null>(null);
const status = ref<"reading" | "ready" | "making">("reading");
const problem = ref("");
const share = ref(0);

watch(
  () => props.file,
  async (file) => {
    if (!file) return;
    [status.value, problem.value, rows.value, upload.value] = ["reading", "", [], null];
    try {
      const query = { first: 1000, order: "tag" as const };
      const there = answered(api.GET("/api/v1/loops", { params: { query } })).catch(() => []);
      areas.value = await answered(api.GET("/api/v1/areas")).catch(() => []);
      known.value = (await there).map((loop) => loop.tag);
      area.value ||= areas.value[0]?.name ?? "";
      const taken = await uploadFile(file);
      upload.value = taken;
      const stem = file.name.replace(/\.[^.]*$/, "").replace(/[/\\?#%]/g, "-");
      rows.value = taken.preview.loops.map(({ tag, channels }) => ({
        taken: true,
        tag: tag || stem.slice(0, 40),
        channels,
        problem: "",
        done: false,
      }));
      status.value = "ready";
      await nextTick();
      if (!area.value) areaEntry.value?.focus();
    } catch (error) {
      problem.value = messageOf(error);
    }
  },
  { immediate: true },
);

const of = (row: Row, role: string) => row.channels.find((channel) => channel.role === role);
const complaint = computed(() => {
  const wanted = rows.value.filter((row) => row.taken && !row.done);
  if (!area.value.trim()) return "Give the area a name.";
  if (wanted.length === 0) return "Take at least one loop.";
  const bad = wanted.find((row) => !of(row, "pv") || !of(row, "op"));
  return bad ? `${bad.tag} has no PV or no OP: leave it out, or make a loop and import the file there.` : "";
});

async function make() {
  const file = upload.value;
  if (!file || complaint.value) return;
  status.value = "making";
  const made: string[] = [];
  for (const row of rows.value) {
    if (!row.taken || row.done) continue;
    row.problem = "";
    const [pv, op] = [of(row, "pv"), of(row, "op")];
    if (!pv || !op) continue;
    try {
      const card = { ...emptyCard(), tag: row.tag.trim() };
      card.pv = { tag: pv.tag, span: { low: 0, high: 100, unit: pv.unit } };
      card.op = { tag: op.tag, span: { low: 0, high: 100, unit: op.unit || "%" } };
      const loop = await makeLoop({ area: area.value.trim(), card, plant: null, span_is_guess: true });
      const mapping = { ...file.preview.guess, channels: row.channels };
      const name = props.file?.name.replace(/\.[^.]*$/, "") ?? "first record";
      await takeImport(
        loop.tag,
        file.id,
        name,
        mapping,
        (done) => (share.value = done),
        () => undefined,
      );
      row.done = true;
      made.push(loop.tag);
    } catch (error) {
      row.problem = messageOf(error);
    }
  }
  status.value = "ready";
  if (rows.value.every((row) => !row.taken || row.done)) {
    emit("close");
    tell(made.length === 1 ? `${made[0]} is made.` : `${made.length} loops are made.`);
    if (made.length === 1) await router.push({ name: "measure", params: { tag: made[0] } });
  }
}

/** The file goes into a loop that is there already. */
async function into(tag: string) {
  pendingFile.value = props.file;
  emit("close");
  await router.push({ name: "measure", params: { tag } });
}
</script>

<template>
  <DialogFrame
    :open="file !== null"
    :title="file?.name ?? ''"
    :note="upload?.preview.form"
    width="760px"
    @close="emit('close')"
  >
    <div class="mt-3 grid gap-3">
      <p v-if="status === 'reading' && !problem" class="text-soft" role="status">Reading the file …</p>
      <template v-if="upload">
        <p>The file seems to hold {{ rows.length === 1 ? "one loop" : `${rows.length} loops` }}:</p>
        <table class="w-full text-[13px]" aria-label="Loops in the file">
          <thead class="text-left text-[12px] text-soft">
            <tr>
              <th class="font-normal"></th>
              <th class="font-normal">tag of the loop</th>
              <th class="font-normal">PV</th>
              <th class="font-normal">OP</th>
              <th class="font-normal">SP</th>
              <th class="font-normal">also</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(row, k) in rows" :key="k" class="border-t border-rule align-baseline">
              <td class="py-1 pr-2">
                <input
                  v-model="row.taken"
                  type="checkbox"
                  :aria-label="`Make ${row.tag}`"
                  :disabled="row.done"
                />
              </td>
              <td class="py-1 pr-3">
                <input
                  v-model="row.tag"
                  class="entry w-[130px]"
                  :class="row.problem ? '!border-limit' : ''"
                  maxlength="40"
                  aria-label="Tag of the loop"
                  :disabled="row.done"
                />
                <p v-if="row.problem" class="text-[12.5px] text-limit" role="alert">{{ row.problem }}</p>
              </td>
              <td class="pr-3">
                {{ of(row, "pv")?.column ?? "none" }}
                <span class="text-soft">{{ of(row, "pv")?.unit }}</span>
              </td>
              <td class="pr-3">
                {{ of(row, "op")?.column ?? "none" }}
                <span class="text-soft">{{ of(row, "op")?.unit }}</span>
              </td>
              <td class="pr-3">{{ of(row, "sp")?.column ?? "–" }}</td>
              <td class="text-soft">
                {{ row.channels.filter((channel) => ["dv", "other"].includes(channel.role)).length }} other
              </td>
            </tr>
          </tbody>
        </table>
        <label class="flex items-center gap-2">
          Area
          <input ref="area" v-model="area" class="entry w-[220px]" list="areas-of-file" maxlength="80" />
          <datalist id="areas-of-file">
            <option v-for="one in areas" :key="one.id" :value="one.name" />
          </datalist>
        </label>
        <p class="text-[12.5px] text-soft">
          The span of each PV is taken from the data until it is set: every gain in % depends on it.
        </p>
      </template>
      <ProblemNote :text="problem" />
      <div class="flex flex-wrap items-center gap-2">
        <button
          type="button"
          class="button button-main"
          :disabled="status !== 'ready' || complaint !== '' || !online"
          @click="make"
        >
          {{
            status === "making"
              ? `Making … ${Math.round(100 * share)} %`
              : "Make them, with the file as record"
          }}
        </button>
        <button type="button" class="button" @click="emit('close')">Cancel</button>
        <span v-if="status === 'ready' && complaint" class="text-caution">{{ complaint }}</span>
        <label v-if="known.length" class="ml-auto flex items-center gap-2">
          or into
          <select
            class="entry"
            aria-label="Import into a loop"
            @change="into(($event.target as HTMLSelectElement).value)"
          >
            <option value="">a loop that is there …</option>
            <option v-for="tag in known" :key="tag" :value="tag">{{ tag }}</option>
          </select>
        </label>
      </div>
    </div>
  </DialogFrame>
</template>
