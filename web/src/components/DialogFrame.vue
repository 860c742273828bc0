<script setup lang="ts">
/** A dialog in the middle of the page. A click beside it changes nothing: it is closed by its buttons, or by Escape. */
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";

withDefaults(defineProps<{ open: boolean; title: string; note?: string; width?: string }>(), {
  note: "",
  width: "560px",
});
const emit = defineEmits<{ close: [] }>();
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <DialogPanel class="fixed inset-0 flex items-center justify-center overflow-y-auto p-4">
      <div
        class="flex max-h-full min-h-0 w-full flex-col overflow-y-auto rounded-lg border border-rule bg-paper p-5 shadow-xl"
        :style="{ maxWidth: width }"
      >
        <DialogTitle class="heading flex flex-wrap items-baseline gap-x-3">
          {{ title }} <span v-if="note" class="text-[13px] font-normal text-soft">{{ note }}</span>
        </DialogTitle>
        <slot />
      </div>
    </DialogPanel>
  </Dialog>
</template>
