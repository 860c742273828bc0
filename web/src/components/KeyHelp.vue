<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { ref } from "vue";
import { useKeys } from "../lib/keys";

const open = ref(false);
const keys: [string, string][] = [
  ["1 2 3 4 5", "to the steps Measure, Model, Control, Prove, Hand over"],
  ["/", "find anything"],
  ["?", "this list"],
  ["↑ ↓ in an entry", "nudge the number; with Shift times or divided by 1.2"],
  ["j k", "next and previous row of the trail"],
  ["o", "lay the row over, or take it off again"],
  ["p", "pin the row: others are compared with it"],
  ["space", "flip between the row and the pinned one"],
  ["s", "star the trial: it stays in sight (Control)"],
  [
    "+ − ← → 0 on the strip",
    "zoom, pan, whole record; with the mouse: drag, wheel, Shift+wheel, double click",
  ],
  ["f", "fit a model (Model)"],
  ["l", "load a file (home, Measure)"],
  ["n", "new loop (home)"],
];
useKeys({ "?": () => (open.value = true) });
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="open = false">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center pt-[12vh]">
      <DialogPanel class="w-[600px] rounded-lg border border-rule bg-paper p-5 shadow-xl">
        <DialogTitle class="heading mb-3">Keys</DialogTitle>
        <dl class="grid grid-cols-[auto_1fr] gap-x-5 gap-y-2">
          <template v-for="[key, meaning] in keys" :key="key">
            <dt>
              <kbd class="key whitespace-nowrap">{{ key }}</kbd>
            </dt>
            <dd>{{ meaning }}</dd>
          </template>
        </dl>
        <button type="button" class="button mt-4" @click="open = false">Close</button>
      </DialogPanel>
    </div>
  </Dialog>
</template>
