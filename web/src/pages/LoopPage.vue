<script setup lang="ts">
import { onMounted, watch } from "vue";
import { useRouter } from "vue-router";
import StateNotice from "../components/StateNotice.vue";
import TopLine from "../components/TopLine.vue";
import { useKeys } from "../lib/keys";
import { provideLoop } from "../lib/loop";

const props = defineProps<{ tag: string }>();
const router = useRouter();
const { state, load } = provideLoop(props.tag);

const go = (name: string) => () => void router.push({ name, params: { tag: props.tag } });
useKeys({ "1": go("measure"), "2": go("model"), "3": go("control") });

onMounted(load);
// Another loop is another page: it starts from nothing.
watch(
  () => props.tag,
  () => window.location.reload(),
);
</script>

<template>
  <div class="flex h-full flex-col">
    <TopLine :loop="state" />
    <StateNotice
      v-if="state.status === 'failed'"
      kind="failed"
      :title="`${tag} cannot be shown`"
      :retry="() => load()"
    >
      {{ state.failure }}
    </StateNotice>
    <StateNotice v-else-if="state.status === 'loading'" kind="loading" :title="`${tag} on its way`" />
    <RouterView v-else />
  </div>
</template>
