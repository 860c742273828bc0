<script setup lang="ts">
/** Matrices or transfer functions as the text of their document, checked as it is typed. */
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { ref, watch } from "vue";
import { answered, api, messageOf, type Trial } from "../api/client";

type Process = Trial["plant"]["process"];

const props = defineProps<{ open: boolean; process: Process; pvUnit: string }>();
const emit = defineEmits<{ close: []; take: [process: Process] }>();

const text = ref("");
const problem = ref("");
const checked = ref<Process | null>(null);
let sent = 0;

watch(
  () => props.open,
  (open) => {
    if (open) text.value = JSON.stringify(props.process, null, 2);
  },
);

watch(text, async (now) => {
  const ticket = ++sent;
  checked.value = null;
  try {
    const process = JSON.parse(now) as Process;
    await answered(api.POST("/api/v1/processes/describe", { body: { process, pv_unit: props.pvUnit } }));
    if (ticket !== sent) return;
    checked.value = process;
    problem.value = "";
  } catch (error) {
    if (ticket === sent) problem.value = messageOf(error);
  }
});
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/30" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-6">
      <DialogPanel
        class="flex max-h-full w-[720px] flex-col gap-3 rounded-lg border border-rule bg-paper p-5 shadow-xl"
      >
        <DialogTitle class="heading">
          {{ process.structure === "state_space" ? "State space" : "Transfer functions" }}
        </DialogTitle>
        <p class="text-soft">
          {{
            process.structure === "state_space"
              ? "x′ = A x + B u, y = C x + D u in deviations from rest; matrices by rows, rates per second, dead times of the inputs in s."
              : "Coefficients with the highest power of s first, times in s; elements that are not given are 0."
          }}
        </p>
        <textarea
          v-model="text"
          class="entry min-h-[340px] font-mono text-[13px]"
          spellcheck="false"
          aria-label="Document of the process"
        />
        <p v-if="problem" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
          {{ problem }}
        </p>
        <div class="flex gap-3">
          <button
            type="button"
            class="button button-main"
            :disabled="!checked"
            @click="checked && emit('take', checked)"
          >
            Take
          </button>
          <button type="button" class="button" @click="emit('close')">Cancel</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
