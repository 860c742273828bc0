<script setup lang="ts">
/** The form and units of the controller that settings are typed into. */
import ChoiceField from "../components/ChoiceField.vue";
import { CHOICES, withChoice, type NotationChoice } from "./useNotation";

const notation = defineModel<NotationChoice>({ required: true });
</script>

<template>
  <ChoiceField
    v-for="choice in CHOICES"
    :key="choice.key"
    :label="choice.label"
    :model-value="notation[choice.key]"
    :choices="choice.all.map(([value, title]) => ({ value, title }))"
    @update:model-value="notation = withChoice(notation, choice.key, $event)"
  />
</template>
