<script setup lang="ts">
/** What is asked for one step. */
import { computed, ref, watch } from "vue";
import NumberField from "../components/NumberField.vue";
import { FORMS, type Ask, type Operation } from "../lib/preparation";

const props = defineProps<{ operation: Operation; tags: string[]; view: () => [number, number] }>();
const emit = defineEmits<{ take: [operation: Operation]; close: [] }>();

const draft = ref<Record<string, unknown>>({});
watch(
  () => props.operation,
  (operation) => (draft.value = { ...operation }),
  { immediate: true },
);

const asked = computed(() =>
  FORMS[props.operation.kind].asks.filter((ask) => !ask.unless || !draft.value[ask.unless]),
);
const isNumber = (ask: Ask) => !ask.choices && (ask.kind ?? "number") === "number";

function takeView() {
  const [from, to] = props.view();
  draft.value.from = Number(from.toPrecision(6));
  draft.value.to = Number(to.toPrecision(6));
}

function chosen(ask: Ask, value: string) {
  draft.value[ask.key] = ask.key === "order" ? Number(value) : value;
}
</script>

<template>
  <form class="mt-1 grid gap-[6px]" @submit.prevent="emit('take', draft as unknown as Operation)">
    <template v-for="ask in asked" :key="ask.key">
      <NumberField
        v-if="isNumber(ask)"
        :label="ask.title"
        :unit="ask.unit ?? ''"
        :model-value="(draft[ask.key] as number | null) ?? null"
        :when-empty="ask.optional ? 'longest' : undefined"
        @update:model-value="draft[ask.key] = $event"
      />
      <label v-else-if="ask.kind === 'boolean'" class="flex items-center gap-2">
        <input v-model="draft[ask.key]" type="checkbox" /> {{ ask.title }}
      </label>
      <label v-else class="grid grid-cols-[1fr_158px] items-center gap-2">
        {{ ask.title }}
        <select
          v-if="ask.kind === 'tag'"
          class="entry w-full"
          :value="draft[ask.key] ?? ''"
          @change="draft[ask.key] = ($event.target as HTMLSelectElement).value || null"
        >
          <option value="">the PV</option>
          <option v-for="tag in tags" :key="tag" :value="tag">{{ tag }}</option>
        </select>
        <select
          v-else-if="ask.choices"
          class="entry w-full"
          :value="String(draft[ask.key])"
          @change="chosen(ask, ($event.target as HTMLSelectElement).value)"
        >
          <option v-for="[value, words] in ask.choices" :key="value" :value="value">{{ words }}</option>
        </select>
        <input v-else v-model="draft[ask.key]" class="entry w-full" spellcheck="false" />
      </label>
    </template>
    <div class="flex gap-2">
      <button type="submit" class="button button-main">Apply</button>
      <button v-if="'from' in draft" type="button" class="button" @click="takeView">As shown</button>
      <button type="button" class="button" @click="emit('close')">Cancel</button>
    </div>
  </form>
</template>
