<script setup lang="ts">
/** All loops of the works by area: found, sorted, made, taken in, and where each stands. */
import { computed, onMounted, ref, useTemplateRef, watch } from "vue";
import { answered, api, ifMatch, inAllOf, messageOf, type LoopSummary } from "../api/client";
import DeleteDialog from "../components/DeleteDialog.vue";
import EditDialog from "../components/EditDialog.vue";
import StateNotice from "../components/StateNotice.vue";
import ThumbTrend from "../components/ThumbTrend.vue";
import TopLine from "../components/TopLine.vue";
import { ago, duration, number, plural } from "../lib/format";
import { useKept } from "../lib/kept";
import { useKeys } from "../lib/keys";
import { gathered, useChanges } from "../lib/live";
import { tell } from "../lib/notes";
import { useRetry } from "../lib/retry";
import { shortName, type Structure } from "../lib/structures";
import BinDialog from "../works/BinDialog.vue";
import FileLoopsDialog from "../works/FileLoopsDialog.vue";
import { takeArchiveIn, type AreaInfo } from "../works/loops";
import NewLoopDialog from "../works/NewLoopDialog.vue";

/** Loops that come at once. */
const MORE = 100;
const MOST = 1000;

const loops = ref<LoopSummary[] | null>(null);
const areas = ref<AreaInfo[]>([]);
const inBin = ref(0);
const failure = ref("");
const words = ref("");
/** How many there are with these words, and how many of them are asked for. */
const inAll = ref(0);
const first = ref(MORE);
const order = useKept<"area" | "tag" | "changed" | "fit">("order of loops", () => "area");

/** The step to go on with: the first that is not done; a loop may have trials on a plant and no model. */
function nextStep(loop: LoopSummary): { name: string; words: string } {
  if (loop.trials > 0) return { name: "control", words: plural(loop.trials, "trial") };
  if (loop.models > 0) return { name: "control", words: "to be tuned" };
  if (loop.records > 0) return { name: "model", words: "to be modelled" };
  return { name: "measure", words: "no record yet" };
}

function modelInWords(loop: LoopSummary): string {
  if (!loop.model_structure) return "no model";
  const name = shortName(loop.model_structure as unknown as Structure);
  const fit = loop.fit_percent == null ? "" : ` ${number(loop.fit_percent)} %`;
  return `${name}${fit}`;
}

/** By area, empty ones too; or all in one list, in another order. */
const groups = computed(() => {
  if (order.value === "area") {
    const all = areas.value.map((area) => ({
      area: area as AreaInfo | null,
      title: area.name,
      loops: (loops.value ?? []).filter((loop) => loop.area === area.name),
    }));
    // An area whose loops are further down is not empty.
    const isAll = !words.value && further.value === 0;
    return isAll ? all : all.filter((group) => group.loops.length);
  }
  return [{ area: null, title: "", loops: loops.value ?? [] }];
});
const further = computed(() => inAll.value - (loops.value?.length ?? 0));

/** What was asked for last: an answer to an earlier question is not shown. */
let asked = 0;

async function load() {
  const question = ++asked;
  const query = { first: first.value, order: order.value, words: words.value.trim() };
  try {
    const request = api.GET("/api/v1/loops", { params: { query } });
    const bin = api.GET("/api/v1/bin", { params: { query: { newest: 1 } } });
    const [found, known, deleted] = await Promise.all([
      answered(request),
      answered(api.GET("/api/v1/areas")),
      answered(bin),
    ]);
    const [of, ofBin] = await Promise.all([request, bin]);
    if (question !== asked) return;
    inAll.value = inAllOf(of, found.length);
    [loops.value, areas.value] = [found, known];
    inBin.value = inAllOf(ofBin, deleted.length);
    failure.value = "";
  } catch (error) {
    if (question === asked) failure.value = messageOf(error);
  }
}
onMounted(load);
watch(
  [words, order],
  gathered(() => ((first.value = MORE), load()), 150),
);

async function showMore() {
  first.value = Math.min(first.value + MORE, MOST);
  await load();
}
useChanges(gathered(() => void load(), 200));
useRetry(() => failure.value !== "", load);

// --- making and taking in ---

const making = ref(false);
const areaOfNew = ref("");
const file = ref<File | null>(null);
const dragging = ref(false);
const binOpen = ref(false);
const chooser = useTemplateRef<HTMLInputElement>("chooser");
const refusal = ref("");

function newLoop(area = "") {
  areaOfNew.value = area;
  making.value = true;
}

async function choose(files: FileList | null | undefined) {
  const chosen = files?.[0] ?? null;
  if (chooser.value) chooser.value.value = "";
  refusal.value = "";
  if (!chosen) return;
  if (!/\.zip$/i.test(chosen.name)) {
    file.value = chosen;
    return;
  }
  try {
    const taken = await takeArchiveIn(chosen);
    tell(`Taken in: ${taken.map((loop) => loop.tag).join(", ")}.`);
    await load();
  } catch (error) {
    refusal.value = `${chosen.name}: ${messageOf(error)}`;
  }
}

const editing = ref<InstanceType<typeof EditDialog>["$props"]["what"]>(null);
const deleting = ref<InstanceType<typeof DeleteDialog>["$props"]["what"]>(null);

function newArea() {
  editing.value = {
    title: "New area",
    nameLabel: "Name",
    texts: { name: "", remark: "" },
    keep: async ({ name, remark }) => {
      await answered(api.POST("/api/v1/areas", { body: { name, notes: remark } }));
      await load();
    },
  };
}

function editArea(area: AreaInfo) {
  editing.value = {
    title: `Area ${area.name}`,
    nameLabel: "Name",
    texts: { name: area.name, remark: area.notes },
    keep: async ({ name, remark }, force) => {
      const params = { path: { id: area.id }, header: ifMatch(area.revision, force) };
      await answered(api.PUT("/api/v1/areas/{id}", { params, body: { name, notes: remark } }));
      await load();
    },
  };
}

function deleteArea(area: AreaInfo) {
  deleting.value = {
    kind: "area",
    id: area.id,
    remove: () => answered(api.DELETE("/api/v1/areas/{id}", { params: { path: { id: area.id } } })),
  };
}

useKeys({ n: () => newLoop(), l: () => chooser.value?.click() });
</script>

<template>
  <div
    class="flex h-full flex-col"
    @dragover.prevent="dragging = true"
    @dragleave.self="dragging = false"
    @drop.prevent="((dragging = false), choose($event.dataTransfer?.files))"
  >
    <TopLine />
    <div
      v-if="dragging"
      class="pointer-events-none absolute inset-6 z-30 grid place-items-center rounded-lg border-2 border-dashed border-pv bg-paper/90"
    >
      <p class="heading">Drop the file: its columns propose loops; an archive brings its own</p>
    </div>
    <main class="min-h-0 flex-1 overflow-y-auto px-6 py-3" tabindex="-1">
      <div class="mb-3 flex flex-wrap items-center gap-2 print:hidden">
        <h1 class="heading mr-3">Loops</h1>
        <template v-if="!loops || loops.length || words">
          <input
            v-model="words"
            class="entry w-[220px]"
            type="search"
            placeholder="tag, name or area"
            aria-label="Search the loops"
          />
          <label class="flex items-center gap-2">
            order
            <select v-model="order" class="entry" aria-label="Order of the loops">
              <option value="area">by area</option>
              <option value="tag">by tag</option>
              <option value="changed">last changed first</option>
              <option value="fit">worst fit first</option>
            </select>
          </label>
        </template>
        <span class="grow" />
        <button type="button" class="button button-main" @click="newLoop()">
          New loop <kbd class="key !border-transparent !bg-transparent !text-inherit">n</kbd>
        </button>
        <button type="button" class="button" @click="newArea">New area</button>
        <button
          type="button"
          class="button"
          title="CSV, XLSX, Parquet, JSON, or an exported archive"
          @click="chooser?.click()"
        >
          Load a file <kbd class="key">l</kbd>
        </button>
        <button type="button" class="button" @click="binOpen = true">
          Bin{{ inBin ? ` (${inBin})` : "" }}
        </button>
        <input
          ref="chooser"
          type="file"
          class="sr-only"
          tabindex="-1"
          aria-label="File with loops"
          accept=".csv,.txt,.tsv,.xlsx,.parquet,.json,.zip,text/*"
          @change="choose(($event.target as HTMLInputElement).files)"
        />
      </div>
      <p v-if="refusal" class="mb-3 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
        {{ refusal }}
      </p>
      <StateNotice
        v-if="failure && !loops"
        kind="failed"
        title="The loops cannot be shown"
        :retry="() => load()"
      >
        {{ failure }}
      </StateNotice>
      <StateNotice v-else-if="!loops" kind="loading" title="Loops on their way" />
      <StateNotice
        v-else-if="loops.length === 0 && areas.length === 0"
        kind="empty"
        title="Make your first loop"
      >
        Drop a file of the plant here, and its columns propose the loops; or begin with nothing, or with a
        simulated plant.
        <div class="mt-3 flex justify-center gap-2">
          <button type="button" class="button button-main" @click="newLoop()">New loop</button>
          <button type="button" class="button" @click="chooser?.click()">Choose a file</button>
        </div>
      </StateNotice>
      <p v-else-if="loops.length === 0 && words.trim()" class="py-6 text-center text-soft">
        No loop has that name.
        <button type="button" class="button ml-2" @click="words = ''">Show all</button>
      </p>
      <section
        v-for="group in groups"
        :key="group.title"
        class="mb-4"
        :aria-label="group.title || 'All loops'"
      >
        <div v-if="group.area" class="flex items-baseline gap-2 border-b border-ink pb-1">
          <h2 class="heading">{{ group.title }}</h2>
          <span v-if="group.area.notes" class="truncate text-[12.5px] text-soft">{{ group.area.notes }}</span>
          <span class="grow" />
          <span class="flex gap-1 text-[12.5px] print:hidden">
            <button
              type="button"
              class="px-1 text-soft hover:text-ink"
              :aria-label="`New loop in ${group.title}`"
              @click="newLoop(group.title)"
            >
              new loop
            </button>
            <button
              type="button"
              class="px-1 text-soft hover:text-ink"
              :aria-label="`Rename ${group.title}`"
              @click="editArea(group.area)"
            >
              rename
            </button>
            <a
              v-if="group.loops.length"
              class="px-1 text-soft hover:text-ink"
              :href="`/api/v1/areas/${group.area.id}/archive`"
              :aria-label="`Export ${group.title}`"
              download
              >export</a
            >
            <button
              type="button"
              class="px-1 text-soft hover:text-limit"
              :aria-label="`Delete ${group.title}`"
              @click="deleteArea(group.area)"
            >
              delete
            </button>
          </span>
        </div>
        <p v-if="group.area && group.loops.length === 0" class="py-2 text-soft">No loop in this area yet.</p>
        <RouterLink
          v-for="loop in group.loops"
          :key="loop.id"
          :to="{ name: nextStep(loop).name, params: { tag: loop.tag } }"
          class="grid grid-cols-[120px_minmax(0,1fr)_minmax(90px,190px)_minmax(0,130px)_minmax(0,110px)_100px] items-center gap-4 border-b border-rule px-1 py-[7px] hover:bg-wash max-[900px]:grid-cols-[110px_minmax(0,1fr)_110px]"
        >
          <strong class="truncate font-semibold">{{ loop.tag }}</strong>
          <span class="min-w-0">
            <span class="block truncate">{{ loop.name || loop.pv.tag }}</span>
            <span class="block truncate text-[12.5px] text-soft">
              <template v-if="order !== 'area'">{{ loop.area }}{{ loop.difficulty ? " · " : "" }}</template
              >{{ loop.difficulty }}
            </span>
          </span>
          <span class="min-w-0 max-[900px]:hidden">
            <ThumbTrend
              v-if="loop.thumbnail?.length"
              :values="loop.thumbnail"
              :label="`Trend of ${loop.pv.tag} over ${duration(loop.duration)}`"
            />
            <span v-if="loop.thumbnail" class="flex justify-between text-[11.5px] text-soft">
              <span>{{ loop.pv.span.unit }}</span><span>{{ duration(loop.duration) }}</span>
            </span>
          </span>
          <span class="text-[12.5px] max-[900px]:hidden">
            {{ modelInWords(loop) }}
            <span v-if="loop.model_structure" class="block text-soft">
              {{ loop.has_chosen_model ? "chosen" : "none chosen"
              }}{{ loop.fit_is_on_new_data ? ", on new data" : "" }}
            </span>
          </span>
          <span class="text-[12.5px]">{{ nextStep(loop).words }}</span>
          <span class="text-right text-[12.5px] text-soft max-[900px]:hidden">{{
            ago(loop.changed_at)
          }}</span>
        </RouterLink>
      </section>
      <p v-if="loops && further > 0" class="py-1 text-[12.5px] text-soft" role="status">
        <button v-if="first < MOST" type="button" class="button !py-0" @click="showMore">Show more</button>
        {{ plural(further, "loop") }} further down; the search finds them, too.
      </p>
    </main>
    <NewLoopDialog :open="making" :area="areaOfNew" @close="making = false" />
    <FileLoopsDialog :file="file" @close="((file = null), load())" />
    <EditDialog :what="editing" @close="editing = null" />
    <DeleteDialog :what="deleting" @close="deleting = null" @deleted="load" />
    <BinDialog :open="binOpen" @close="binOpen = false" @changed="load" />
  </div>
</template>
