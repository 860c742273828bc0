<script setup lang="ts">
/** Below a trail: rows that this version cannot read. They are kept as they are, and can be saved and deleted. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import { letter, plural } from "../lib/format";
import { useLoop, type Rows } from "../lib/loop";
import DeleteDialog from "./DeleteDialog.vue";
import ProblemNote from "./ProblemNote.vue";
import { savedAs } from "./unreadable";

const props = defineProps<{ rows: Rows }>();
const { state, load } = useLoop();
const kind = computed(() => props.rows.slice(0, -1) as "record" | "model" | "trial" | "proof");
const count = computed(() => state.unreadable[props.rows]);
const list = ref<Schemas["Unreadable"][] | null>(null);
const problem = ref("");
const deleting = ref<InstanceType<typeof DeleteDialog>["$props"]["what"]>(null);

async function show() {
  try {
    const found = await answered(
      api.GET("/api/v1/loops/{tag}/unreadable", { params: { path: { tag: state.tag } } }),
    );
    list.value = found.filter((one) => one.kind === kind.value);
    problem.value = "";
  } catch (error) {
    problem.value = messageOf(error);
  }
}
watch(count, () => {
  if (list.value) void show();
});

const nameOf = (one: Schemas["Unreadable"]) =>
  [one.number == null ? "" : letter(one.number), one.name].filter(Boolean).join(", ");

function remove(one: Schemas["Unreadable"]) {
  const path = { params: { path: { id: one.id } } };
  const gone = {
    trial: () => answered(api.DELETE("/api/v1/trials/{id}", path)),
    model: () => answered(api.DELETE("/api/v1/models/{id}", path)),
    record: () => answered(api.DELETE("/api/v1/records/{id}", path)),
    proof: () => answered(api.DELETE("/api/v1/proofs/{id}", path)),
  };
  deleting.value = { kind: kind.value, id: one.id, remove: gone[kind.value] };
}
</script>

<template>
  <div v-if="count > 0" class="px-3 py-1 text-[12.5px]">
    <p>
      <span class="font-semibold text-caution">△</span>
      {{ plural(count, kind) }} cannot be read by this version; nothing of
      {{ count === 1 ? "it" : "them" }} is lost.
      <button v-if="!list" type="button" class="button ml-1 !py-0" @click="show">Show</button>
    </p>
    <ul v-if="list" :aria-label="`What cannot be read`" class="mt-1 border-y border-rule">
      <li
        v-for="one in list"
        :key="one.id"
        class="flex flex-wrap items-baseline gap-x-3 border-b border-rule py-[3px] last:border-0"
      >
        <strong class="font-semibold">{{ nameOf(one) }}</strong>
        <span class="min-w-0 flex-1 text-soft">{{ one.why }}</span>
        <a
          class="button !py-0"
          :href="savedAs(one.document)"
          :download="`${state.tag} ${nameOf(one)}.json`"
          :aria-label="`Save ${nameOf(one)} as it is`"
          >Save as it is</a
        >
        <button type="button" class="button !py-0" :aria-label="`Delete ${nameOf(one)}`" @click="remove(one)">
          Delete …
        </button>
      </li>
    </ul>
    <ProblemNote :text="problem" />
    <DeleteDialog :what="deleting" @close="deleting = null" @deleted="load" />
  </div>
</template>
