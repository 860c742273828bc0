<script setup lang="ts">
/** Before something goes into the bin: what goes with it, what stays and refers to it. */
import { ref, watch } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import { tell } from "../lib/notes";
import { restore } from "../works/bin";
import DialogFrame from "./DialogFrame.vue";
import ProblemNote from "./ProblemNote.vue";

const props = defineProps<{
  what: { kind: Schemas["DeletionKind"]; id: string; remove: () => Promise<Schemas["BinItem"]> } | null;
}>();
const emit = defineEmits<{ close: []; deleted: [] }>();

const hanging = ref<Schemas["Hanging"] | null>(null);
const problem = ref("");
const busy = ref(false);

watch(
  () => props.what,
  async (what) => {
    hanging.value = null;
    problem.value = "";
    if (!what) return;
    try {
      hanging.value = await answered(
        api.GET("/api/v1/hanging/{kind}/{id}", { params: { path: { kind: what.kind, id: what.id } } }),
      );
    } catch (error) {
      problem.value = messageOf(error);
    }
  },
);

async function remove() {
  if (!props.what || busy.value) return;
  busy.value = true;
  try {
    const item = await props.what.remove();
    emit("close");
    emit("deleted");
    tell(`In the bin: ${item.title}.`, { title: "Bring it back", act: () => restore(item.id) });
  } catch (error) {
    problem.value = messageOf(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <DialogFrame
    :open="what !== null"
    :title="hanging ? `Delete ${hanging.title}?` : 'Delete'"
    @close="emit('close')"
  >
    <div class="mt-3 grid gap-3">
      <p v-if="!hanging && !problem" class="text-soft" role="status">Looking for what depends on it …</p>
      <template v-if="hanging">
        <div v-if="hanging.along.length">
          <p>Deleted with it</p>
          <ul class="ml-5 list-disc">
            <li v-for="line in hanging.along" :key="line">{{ line }}</li>
          </ul>
        </div>
        <p v-else class="text-soft">Nothing else is deleted with it.</p>
        <div v-if="hanging.stays.length">
          <p>What stays</p>
          <ul class="ml-5 list-disc">
            <li v-for="line in hanging.stays" :key="line">{{ line }}</li>
          </ul>
        </div>
        <p class="text-soft">It stays in the bin for 30 days and can be brought back.</p>
      </template>
      <ProblemNote :text="problem" />
      <div class="flex gap-2">
        <button type="button" class="button button-main" :disabled="!hanging || busy" @click="remove">
          Delete
        </button>
        <button type="button" class="button" @click="emit('close')">Cancel</button>
      </div>
    </div>
  </DialogFrame>
</template>
