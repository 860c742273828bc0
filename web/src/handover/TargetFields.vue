<script setup lang="ts">
/** The controller on the plant that settings are typed into: form, units and digits, saved for the works under a name. */
import type { Schemas } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import NotationFields from "../control/NotationFields.vue";
import SavedList from "../control/SavedList.vue";
import { wholeNotation, type NotationChoice } from "../control/useNotation";
import { useSaved } from "../control/useSaved";
import { rangeOf } from "../lib/field";

const notation = defineModel<NotationChoice>("notation", { required: true });
const digits = defineModel<number>("digits", { required: true });
const saved = useSaved("target");
const { min = 2, max = 6 } = rangeOf("TargetController", "digits");
const DIGITS = Array.from({ length: max - min + 1 }, (_, k) => String(min + k)).map((count) => ({
  value: count,
  title: `${count} digits`,
}));

const present = (): Schemas["TargetController"] => ({
  notation: { ...notation.value },
  digits: digits.value,
});
function use(target: Schemas["TargetController"]) {
  notation.value = wholeNotation(target.notation);
  digits.value = target.digits;
}
</script>

<template>
  <div class="grid gap-2">
    <SavedList
      what="target controller"
      :items="saved.saved.value"
      :unreadable="saved.unreadable.value"
      :keep="(item, name, remark, force) => saved.change(item, name, remark, null, force)"
      @use="use(saved.specOf($event))"
      @save="saved.save($event, present())"
      @replace="saved.change($event, $event.name, $event.remark, present())"
      @forget="saved.forget"
    />
    <p v-if="saved.trouble.value" class="text-limit" role="alert">{{ saved.trouble.value }}</p>
    <NotationFields v-model="notation" />
    <ChoiceField
      label="Typed with"
      :model-value="String(digits)"
      :choices="DIGITS"
      @update:model-value="digits = Number($event)"
    />
  </div>
</template>
