<script setup lang="ts">
/** The settings in the form and units of the controller that they will be typed into. */
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/vue";
import { computed, reactive, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import { number } from "../lib/format";
import type { Pid } from "./controllers";
import { comebacks } from "../lib/live";

const props = defineProps<{ pid: Pid }>();

const notation = reactive<Required<Schemas["Notation"]>>({
  form: "ideal",
  proportional: "gain",
  integral: "time",
  time: "seconds",
});
const written = shallowRef<Schemas["InNotation"] | null>(null);
const refusal = ref("");
const inLine = computed(() => {
  const { proportional, integral, derivative } = written.value ?? {};
  return [proportional, integral, derivative?.value ? derivative : null]
    .filter((setting) => setting !== null && setting !== undefined)
    .map((setting) => `${setting.name} ${number(setting.value, 4)} ${setting.unit}`.trim())
    .join("; ");
});

const CHOICES: { key: keyof typeof notation; label: string; all: [string, string][] }[] = [
  {
    key: "form",
    label: "Form",
    all: [
      ["ideal", "ideal"],
      ["parallel", "parallel"],
      ["series", "series"],
    ],
  },
  {
    key: "proportional",
    label: "Proportional as",
    all: [
      ["gain", "gain"],
      ["band", "proportional band"],
    ],
  },
  {
    key: "integral",
    label: "Integral as",
    all: [
      ["time", "time"],
      ["rate", "rate"],
      ["repeats", "repeats"],
    ],
  },
  {
    key: "time",
    label: "Times in",
    all: [
      ["seconds", "s"],
      ["minutes", "min"],
    ],
  },
];

function choose(key: keyof typeof notation, value: string) {
  Object.assign(notation, { [key]: value });
  // The parallel form has gains only.
  if (notation.form === "parallel") Object.assign(notation, { proportional: "gain", integral: "rate" });
}

watch(
  [() => JSON.stringify(props.pid), notation, comebacks],
  async () => {
    try {
      const { kind: _, ...settings } = props.pid as Pid & { kind?: string };
      written.value = await answered(
        api.POST("/api/v1/notation/write", { body: { settings, notation: { ...notation } } }),
      );
      refusal.value = "";
    } catch (error) {
      written.value = null;
      refusal.value = messageOf(error);
    }
  },
  { immediate: true },
);
</script>

<template>
  <Disclosure v-slot="{ open }">
    <DisclosureButton class="pt-1 text-left text-soft hover:text-ink">
      <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> To type in:
      <template v-if="written">
        {{ inLine }}
      </template>
    </DisclosureButton>
    <DisclosurePanel class="grid gap-[6px] pb-1">
      <ChoiceField
        v-for="choice in CHOICES"
        :key="choice.key"
        :label="choice.label"
        :model-value="notation[choice.key]"
        :choices="choice.all.map(([value, title]) => ({ value, title }))"
        @update:model-value="choose(choice.key, $event)"
      />
    </DisclosurePanel>
    <p v-if="refusal" class="text-caution">△ {{ refusal }}</p>
  </Disclosure>
</template>
