<script setup lang="ts">
/** What was deleted in the last thirty days. */
import { ref, watch } from "vue";
import { answered, api, inAllOf, messageOf, type Schemas } from "../api/client";
import DialogFrame from "../components/DialogFrame.vue";
import ProblemNote from "../components/ProblemNote.vue";
import { dateText, plural } from "../lib/format";

const props = defineProps<{ open: boolean }>();
const emit = defineEmits<{ close: []; changed: [] }>();
const items = ref<Schemas["BinItem"][] | null>(null);
const inAll = ref(0);
const newest = ref(100);
const problem = ref("");
const sure = ref<string | null>(null);

async function load() {
  try {
    const request = api.GET("/api/v1/bin", { params: { query: { newest: newest.value } } });
    const found = await answered(request);
    inAll.value = inAllOf(await request, found.length);
    items.value = found;
    problem.value = "";
  } catch (error) {
    problem.value = messageOf(error);
  }
}
watch(
  () => props.open,
  (open) => {
    if (open) void load();
    sure.value = null;
  },
);

async function older() {
  newest.value = Math.min(newest.value + 100, 1000);
  await load();
}

async function back(item: Schemas["BinItem"]) {
  try {
    await answered(api.POST("/api/v1/bin/{id}/restore", { params: { path: { id: item.id } } }));
    problem.value = "";
    emit("changed");
  } catch (error) {
    problem.value = messageOf(error);
  }
  await load();
}

async function forGood(item: Schemas["BinItem"]) {
  if (sure.value !== item.id) {
    sure.value = item.id;
    return;
  }
  try {
    await answered(api.DELETE("/api/v1/bin/{id}", { params: { path: { id: item.id } } }));
  } catch (error) {
    problem.value = messageOf(error);
  }
  await load();
  emit("changed");
}
</script>

<template>
  <DialogFrame
    :open="open"
    title="Bin"
    note="what was deleted stays for 30 days"
    width="760px"
    @close="emit('close')"
  >
    <p v-if="items?.length === 0" class="py-6 text-center text-soft">Nothing was deleted.</p>
    <ul v-if="items?.length" class="mt-3 border-y border-rule" aria-label="Deleted things">
      <li
        v-for="item in items"
        :key="item.id"
        class="flex flex-wrap items-baseline gap-x-3 border-b border-rule py-[5px] last:border-0"
      >
        <span class="min-w-0 flex-1">
          <strong class="inline-block font-semibold first-letter:uppercase">{{ item.title }}</strong>
          <span v-if="item.loop_tag" class="text-soft"> of {{ item.loop_tag }}</span>
          <span v-if="item.along.length" class="block text-[12.5px] text-soft"
            >with {{ item.along.join(", ") }}</span
          >
        </span>
        <span class="text-[12.5px] text-soft">deleted {{ dateText(item.deleted_at) }}</span>
        <button
          type="button"
          class="button !py-[2px]"
          :aria-label="`Bring back ${item.title}`"
          @click="back(item)"
        >
          Bring back
        </button>
        <button
          type="button"
          class="button !py-[2px]"
          :class="sure === item.id ? '!border-limit !text-limit' : '!text-soft'"
          :aria-label="`Delete ${item.title} for good`"
          @click="forGood(item)"
        >
          {{ sure === item.id ? "Really for good?" : "For good" }}
        </button>
      </li>
    </ul>
    <p v-if="items && inAll > items.length" class="py-1 text-[12.5px] text-soft">
      <button v-if="newest < 1000" type="button" class="button !py-0" @click="older">Show older</button>
      {{ plural(inAll - items.length, "deletion") }} further back.
    </p>
    <ProblemNote class="mt-3" :text="problem" />
    <button type="button" class="button mt-4 self-start" @click="emit('close')">Close</button>
  </DialogFrame>
</template>
