<script setup lang="ts">
/** All ARX models up to some orders; a row of the table begins a fit. */
import { ref } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import NumberField from "../components/NumberField.vue";
import StateNotice from "../components/StateNotice.vue";
import { number } from "../lib/format";
import { rangeOf } from "../lib/field";
import { shortName, type Structure } from "../lib/structures";
import { useRetry } from "../lib/retry";

const props = defineProps<{
  tag: string;
  recordId: string;
  windows: Schemas["Windows"];
  disturbances: string[];
}>();
const emit = defineEmits<{ use: [structure: Structure] }>();

const search = ref({ na: 4, nb: 4, nk: 30 });
const choices = ref<Schemas["OrderChoice"][]>([]);
const problem = ref("");
const busy = ref(false);

async function run() {
  busy.value = true;
  problem.value = "";
  try {
    choices.value = await answered(
      api.POST("/api/v1/loops/{tag}/orders", {
        params: { path: { tag: props.tag } },
        body: {
          record_id: props.recordId,
          windows: props.windows,
          disturbances: props.disturbances,
          search: search.value,
        },
      }),
    );
  } catch (error) {
    problem.value = messageOf(error);
  } finally {
    busy.value = false;
  }
}
useRetry(() => problem.value !== "", run);

function set(key: "na" | "nb" | "nk", value: number | null) {
  if (value !== null) search.value[key] = Math.round(value);
}
void run();
</script>

<template>
  <div class="flex h-full min-h-0 flex-col gap-2 p-2 pl-6">
    <form class="flex flex-wrap items-center gap-4" @submit.prevent="run">
      <NumberField
        label="A up to"
        unit=""
        :model-value="search.na"
        v-bind="rangeOf('OrderSearch', 'na')"
        @update:model-value="set('na', $event)"
      />
      <NumberField
        label="B up to"
        unit=""
        :model-value="search.nb"
        v-bind="rangeOf('OrderSearch', 'nb')"
        @update:model-value="set('nb', $event)"
      />
      <NumberField
        label="delay up to"
        unit="samples"
        :model-value="search.nk"
        v-bind="rangeOf('OrderSearch', 'nk')"
        @update:model-value="set('nk', $event)"
      />
      <button type="submit" class="button button-main" :disabled="busy">
        {{ busy ? "Trying …" : "Try all" }}
      </button>
    </form>
    <p v-if="problem" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ problem }}</p>
    <StateNotice v-if="busy && choices.length === 0" kind="loading" title="All orders are tried" />
    <div v-else class="min-h-0 flex-1 overflow-auto">
      <table class="w-full max-w-[760px] text-[13px]" aria-label="Orders">
        <thead class="sticky top-0 bg-paper text-soft">
          <tr>
            <th class="px-2 text-left font-normal">A, B, delay</th>
            <th class="px-2 text-right font-normal">BIC, less is better</th>
            <th class="px-2 text-right font-normal">AIC</th>
            <th class="px-2 text-right font-normal">one step, fitted %</th>
            <th class="px-2 text-right font-normal">one step, new data %</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(choice, k) in choices" :key="k" class="border-t border-rule">
            <td class="px-2 py-[2px] font-semibold">{{ shortName(choice.structure) }}</td>
            <td class="px-2 text-right">{{ number(choice.criteria.bic, 6) }}</td>
            <td class="px-2 text-right">{{ number(choice.criteria.aic, 6) }}</td>
            <td class="px-2 text-right">{{ number(choice.estimation_fit, 4) }}</td>
            <td class="px-2 text-right">{{ number(choice.validation_fit, 4) }}</td>
            <td class="text-right">
              <button type="button" class="button !py-0" @click="emit('use', choice.structure)">fit</button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
