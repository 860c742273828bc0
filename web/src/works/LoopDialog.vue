<script setup lang="ts">
/** Tag, name, area, notes and signals of a loop in one place; where it goes out, and where it is deleted. */
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { ApiError, answered, api, fieldOf, messageOf, type LoopDetail } from "../api/client";
import ConflictNote from "../components/ConflictNote.vue";
import DeleteDialog from "../components/DeleteDialog.vue";
import DialogFrame from "../components/DialogFrame.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { useKept } from "../lib/kept";
import CardFields from "./CardFields.vue";
import { cardOf, changeLoop, deleteLoop, type AreaInfo, type LoopCard } from "./loops";

const props = defineProps<{ open: boolean; detail: LoopDetail }>();
const emit = defineEmits<{ close: [] }>();
const router = useRouter();

/** What is being typed stays when the dialog is closed by Escape or the page is left. */
const typed = useKept<{ card: LoopCard; area: string; revision: number } | null>(
  `card of ${props.detail.id}`,
  () => null,
);
const areas = ref<AreaInfo[]>([]);
const problem = ref("");
const field = ref("");
const theirs = ref<LoopDetail | null>(null);
const busy = ref(false);
const deleting = ref<InstanceType<typeof DeleteDialog>["$props"]["what"]>(null);

function begin() {
  const { detail } = props;
  typed.value = { card: cardOf(detail), area: detail.area, revision: detail.revision };
  [problem.value, field.value, theirs.value] = ["", "", null];
}

watch(
  () => props.open,
  async (open) => {
    if (!open) return;
    if (!typed.value) begin();
    areas.value = await answered(api.GET("/api/v1/areas")).catch(() => []);
  },
);

const isChanged = computed(
  () =>
    typed.value !== null &&
    (JSON.stringify(typed.value.card) !== JSON.stringify(cardOf(props.detail)) ||
      typed.value.area !== props.detail.area),
);

async function keep(force: boolean) {
  if (!typed.value || busy.value) return;
  busy.value = true;
  [problem.value, field.value] = ["", ""];
  try {
    const { card, area, revision } = typed.value;
    await changeLoop(props.detail.tag, revision, { card, area }, force);
    typed.value = null;
    emit("close");
  } catch (error) {
    problem.value = messageOf(error);
    field.value = fieldOf(error);
    if (error instanceof ApiError) theirs.value = error.current as unknown as LoopDetail | null;
  } finally {
    busy.value = false;
  }
}

/** What somebody else wrote, beside what is written here. */
const differences = computed(() => {
  const now = theirs.value;
  if (!now || !typed.value) return [];
  const flat = (card: LoopCard, area: string): Record<string, string> => ({
    tag: card.tag,
    name: card.name ?? "",
    area,
    "what is hard": card.difficulty ?? "",
    notes: card.notes ?? "",
    PV: `${card.pv.tag}, ${card.pv.span.low} to ${card.pv.span.high} ${card.pv.span.unit}`,
    OP: `${card.op.tag}, ${card.op.span.low} to ${card.op.span.high} ${card.op.span.unit}`,
  });
  const [mine, other] = [flat(typed.value.card, typed.value.area), flat(cardOf(now), now.area)];
  return Object.keys(mine)
    .filter((key) => mine[key] !== other[key])
    .map((key) => ({ key, mine: mine[key], other: other[key] }));
});

function takeTheirs() {
  const now = theirs.value;
  if (now) typed.value = { card: cardOf(now), area: now.area, revision: now.revision };
  [problem.value, field.value, theirs.value] = ["", "", null];
}

function cancel() {
  typed.value = null;
  emit("close");
}

function remove() {
  const { id, tag } = props.detail;
  deleting.value = { kind: "loop", id, remove: () => deleteLoop(tag) };
}

async function plant(action: "take away") {
  if (action !== "take away") return;
  try {
    await answered(api.DELETE("/api/v1/loops/{tag}/plant", { params: { path: { tag: props.detail.tag } } }));
  } catch (error) {
    problem.value = messageOf(error);
  }
}
</script>

<template>
  <DialogFrame
    :open="open && deleting === null"
    :title="`Loop ${detail.tag}`"
    width="760px"
    @close="emit('close')"
  >
    <form v-if="typed" class="mt-3 grid gap-4" @submit.prevent="keep(false)">
      <p v-if="detail.span_is_guess" class="border-l-[3px] border-caution py-1 pl-3">
        △ The span of the PV was taken from the data. Every gain in % depends on it: put in the range of the
        transmitter.
      </p>
      <CardFields
        v-model:card="typed.card"
        v-model:area="typed.area"
        :areas="areas"
        :field="field"
        :problem="problem"
      />
      <ConflictNote v-if="theirs" :text="problem" @theirs="takeTheirs" @mine="keep(true)">
        <table class="my-2 w-full">
          <thead class="text-left text-[12px] text-soft">
            <tr>
              <th class="font-normal"></th>
              <th class="font-normal">yours</th>
              <th class="font-normal">theirs</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="row in differences" :key="row.key">
              <td class="pr-3 text-soft">{{ row.key }}</td>
              <td class="pr-3">{{ row.mine || "–" }}</td>
              <td>{{ row.other || "–" }}</td>
            </tr>
          </tbody>
        </table>
      </ConflictNote>
      <ProblemNote v-else-if="!field" :text="problem" />
      <div class="flex flex-wrap items-center gap-2">
        <button type="submit" class="button button-main" :disabled="!isChanged || busy">Keep it</button>
        <button type="button" class="button" @click="cancel">Cancel</button>
        <span class="grow" />
        <a class="button" :href="`/api/v1/loops/${encodeURIComponent(detail.tag)}/archive`" download
          >Export the loop (ZIP)</a
        >
        <button v-if="detail.has_plant" type="button" class="button" @click="plant('take away')">
          Take the simulated plant away
        </button>
        <button type="button" class="button hover:!text-limit" @click="remove">Delete the loop …</button>
      </div>
    </form>
  </DialogFrame>
  <DeleteDialog :what="deleting" @close="deleting = null" @deleted="router.push('/')" />
</template>
