<script setup lang="ts">
import type { Field } from "../lib/field";
import { useRefused } from "../lib/refused";
import NumberField from "./NumberField.vue";

defineProps<{ fields: Field[] }>();
const emit = defineEmits<{ settled: [] }>();
const refused = useRefused();
</script>

<template>
  <NumberField
    v-for="field in fields"
    :key="field.key"
    :label="field.label"
    :unit="field.unit"
    :range="field.range"
    :hint="field.hint"
    :min="field.min"
    :max="field.max"
    :exclusive="field.exclusive"
    :when-empty="field.whenEmpty"
    :by-ratio="field.byRatio"
    :halves="field.halves"
    :problem="field.problem || refused(field.key)"
    :model-value="field.value"
    @update:model-value="field.set"
    @settled="emit('settled')"
  />
</template>
