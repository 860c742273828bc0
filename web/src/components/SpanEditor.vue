<script setup lang="ts">
/** The span of the PV, on which every gain in % depends. */
import { computed, reactive, ref, watch } from "vue";
import { answered, api, messageOf } from "../api/client";
import { whenGiven, type Field } from "../lib/field";
import { useLoop } from "../lib/loop";
import FieldList from "./FieldList.vue";

const { state } = useLoop();
const span = reactive({ low: 0, high: 100, unit: "" });
const problem = ref("");

watch(
  () => state.detail?.pv.span,
  (kept) => kept && Object.assign(span, kept),
  { immediate: true },
);

async function keep() {
  const detail = state.detail;
  if (!detail) return;
  const { low, high, unit } = detail.pv.span;
  if (span.low === low && span.high === high && span.unit === unit) return;
  problem.value = "";
  try {
    state.detail = await answered(
      api.PUT("/api/v1/loops/{tag}/signals", {
        params: { path: { tag: state.tag } },
        body: { pv: { ...detail.pv, span: { ...span } }, op: detail.op },
      }),
    );
  } catch (error) {
    problem.value = messageOf(error);
  }
}

function field(end: "low" | "high", label: string, range?: string): Field {
  const set = whenGiven((value) => (span[end] = value));
  return { key: end, label, unit: span.unit, range, value: span[end], set };
}

const fields = computed(() => [
  field("low", "Lower range value"),
  field("high", "Upper range value", `above ${span.low}`),
]);
</script>

<template>
  <fieldset class="grid gap-2">
    <legend class="mb-1 font-semibold">Span of {{ state.detail?.pv.tag }}</legend>
    <FieldList :fields="fields" @settled="keep" />
    <label class="grid grid-cols-[1fr_158px] items-center gap-2">
      Unit <input v-model="span.unit" class="entry text-right" maxlength="24" @change="keep" />
    </label>
    <p v-if="problem" class="text-limit" role="alert">{{ problem }}</p>
  </fieldset>
</template>
