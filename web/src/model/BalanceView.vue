<script setup lang="ts">
/** Where what is conserved came from and went over a record: stacked, with what is stored and what is left over. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type ModelRow, type Schemas } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import TimeStrip from "../components/TimeStrip.vue";
import VerdictNote from "../components/VerdictNote.vue";
import { number } from "../lib/format";
import { useRetry } from "../lib/retry";
import { balancePanelsOf, closureOf } from "./balances";

const props = defineProps<{ model: ModelRow; start: string | null | undefined }>();
const found = ref<Schemas["StretchBalances"] | null>(null);
const failure = ref("");
const chosen = ref(0);
const stretch = ref(0);

async function load() {
  failure.value = "";
  try {
    const params = { path: { id: props.model.id }, query: { stretch: stretch.value } };
    found.value = await answered(api.GET("/api/v1/models/{id}/balances", { params }));
  } catch (error) {
    failure.value = messageOf(error);
  }
}
watch([() => props.model.id, stretch], () => ((found.value = null), load()), { immediate: true });
useRetry(() => failure.value !== "", load);

const balance = computed(() => found.value?.balances[chosen.value] ?? found.value?.balances[0] ?? null);
const panels = computed(() =>
  balance.value && found.value ? balancePanelsOf(balance.value, found.value.from) : [],
);
const extent = computed<[number, number]>(() => {
  const times = balance.value?.times ?? [];
  const from = found.value?.from ?? 0;
  return [from + (times[0] ?? 0), from + (times.at(-1) ?? 1)];
});
const closure = computed(() => (balance.value ? closureOf(balance.value) : null));
const stretches = computed(() => 1 + props.model.further.length);
</script>

<template>
  <StateNotice v-if="failure" kind="failed" title="The balance cannot be shown" :retry="() => load()">
    {{ failure }}
  </StateNotice>
  <StateNotice v-else-if="!found" kind="loading" title="Balance on its way" />
  <StateNotice v-else-if="!balance" kind="empty" title="No balance to show">
    This process says of nothing that it is conserved.
  </StateNotice>
  <div v-else class="flex h-full min-h-0 flex-col">
    <div class="flex flex-wrap items-center gap-3 pr-2 pl-14 text-[12.5px]">
      <select
        v-if="found.balances.length > 1"
        v-model="chosen"
        class="entry !py-[1px]"
        aria-label="Balance of"
      >
        <option v-for="(one, k) in found.balances" :key="one.name" :value="k">{{ one.name }}</option>
      </select>
      <select v-if="stretches > 1" v-model="stretch" class="entry !py-[1px]" aria-label="Stretch of the fit">
        <option v-for="k in stretches" :key="k" :value="k - 1">stretch {{ k }}</option>
      </select>
      <span v-if="closure" class="text-soft">
        came in {{ number(closure.came, 4) }} · went out {{ number(closure.went, 4) }} · stored
        {{ number(closure.stored, 3) }} · left over {{ number(closure.left, 3) }} {{ closure.unit }}
      </span>
    </div>
    <VerdictNote v-if="closure" class="mx-14 mt-1" :verdict="closure.verdict" />
    <TimeStrip
      class="min-h-0 flex-1"
      :panels="panels"
      :marks="[]"
      :extent="extent"
      :start="start"
      :label="`${balance.name} balance: what came in, went out, was stored and is left over`"
    />
  </div>
</template>
