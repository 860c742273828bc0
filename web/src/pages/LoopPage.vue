<script setup lang="ts">
import { onMounted, provide, ref, watch } from "vue";
import { useRoute, useRouter, type LocationQuery } from "vue-router";
import StateNotice from "../components/StateNotice.vue";
import TopLine from "../components/TopLine.vue";
import { useKeys } from "../lib/keys";
import { useKept } from "../lib/kept";
import { provideLoop } from "../lib/loop";
import { tell } from "../lib/notes";
import LoopDialog from "../works/LoopDialog.vue";
import { EDIT_LOOP } from "../works/loops";
import { pendingFile } from "../works/pending";
import { useRetry } from "../lib/retry";

const props = defineProps<{ tag: string }>();
const route = useRoute();
const router = useRouter();
const { state, load } = provideLoop(props.tag, {
  renamed(tag) {
    tell(`${props.tag} is called ${tag} now.`);
    void router.replace({ name: route.name as string, params: { tag } });
  },
  gone() {
    tell(`${props.tag} was deleted: it is in the bin.`);
    void router.push("/");
  },
});

/** What was selected at each step, so that coming back shows the same. */
const places = useKept<Record<string, LocationQuery>>(`places of ${props.tag}`, () => ({}));
watch(
  () => [route.name, route.query] as const,
  ([name, query]) => {
    if (typeof name === "string" && route.params.tag === props.tag) places.value[name] = { ...query };
  },
  { immediate: true },
);
const go = (name: string) => () =>
  void router.push({ name, params: { tag: props.tag }, query: places.value[name] ?? {} });
useKeys({ "1": go("measure"), "2": go("model"), "3": go("control"), "4": go("prove"), "5": go("hand-over") });

const editing = ref(false);
provide(EDIT_LOOP, () => (editing.value = true));

/** A file that is dropped at another step becomes a record, too. */
function dropped(event: DragEvent) {
  const file = event.dataTransfer?.files[0];
  if (!file || route.name === "measure") return;
  pendingFile.value = file;
  go("measure")();
}

onMounted(load);
useRetry(() => state.status === "failed", load);
// Another loop is another page: it starts from nothing.
watch(
  () => props.tag,
  () => window.location.reload(),
);
</script>

<template>
  <div class="flex h-full flex-col" @dragover.prevent @drop.prevent="dropped">
    <TopLine :loop="state" :places="places" @edit="editing = true" />
    <main class="flex min-h-0 flex-1 flex-col">
      <StateNotice
        v-if="state.status === 'failed'"
        kind="failed"
        :title="`${tag} cannot be shown`"
        :retry="() => load()"
      >
        {{ state.failure }}
        <RouterLink to="/" class="button mt-2 inline-block">All loops</RouterLink>
      </StateNotice>
      <StateNotice v-else-if="state.status === 'loading'" kind="loading" :title="`${tag} on its way`" />
      <RouterView v-else />
    </main>
    <LoopDialog v-if="state.detail" :open="editing" :detail="state.detail" @close="editing = false" />
  </div>
</template>
