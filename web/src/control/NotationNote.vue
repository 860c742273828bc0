<script setup lang="ts">
/** The settings in the form and units of the controller that they will be typed into. */
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/vue";
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas } from "../api/client";
import { number } from "../lib/format";
import type { Pid } from "./controllers";
import { comebacks } from "../lib/live";
import { plain } from "../lib/plain";
import NotationFields from "./NotationFields.vue";
import { useNotation } from "./useNotation";

const props = defineProps<{
  pid: Pid;
  /** Span of the PV that the controller is on. */
  span: Schemas["Span"];
}>();

const { notation } = useNotation();
const written = shallowRef<Schemas["InNotation"] | null>(null);
const refusal = ref("");
const inLine = computed(() => {
  const { proportional, integral, derivative } = written.value ?? {};
  return [proportional, integral, derivative?.value ? derivative : null]
    .filter((setting) => setting !== null && setting !== undefined)
    .map((setting) => `${setting.name} ${number(setting.value, 4)} ${setting.unit}`.trim())
    .join("; ");
});

watch(
  [() => JSON.stringify([props.pid, props.span]), notation, comebacks],
  async () => {
    try {
      const { kind: _, ...settings } = props.pid as Pid & { kind?: string };
      written.value = await answered(
        api.POST("/api/v1/notation/write", {
          body: { settings, notation: { ...notation.value }, pv_span: plain(props.span) },
        }),
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
      <NotationFields v-model="notation" />
    </DisclosurePanel>
    <p v-if="refusal" class="text-caution">△ {{ refusal }}</p>
  </Disclosure>
</template>
