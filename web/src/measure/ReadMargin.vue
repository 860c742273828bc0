<script setup lang="ts">
/** Gain, dead time and time constant read by marks on the strip, beside the numbers of the fit. */
import { computed } from "vue";
import type { ModelRow, Schemas } from "../api/client";
import { letter, number } from "../lib/format";

const props = defineProps<{
  reading: Schemas["HandReading"] | null;
  problem: string;
  models: ModelRow[];
  /** Identifier of the record that is read. */
  record: string | null;
  unit: string;
}>();
const emit = defineEmits<{ suggest: [] }>();

/** The newest first-order model of this record that is not stale. */
const fit = computed(() =>
  props.models.find(
    (row) => row.model.structure.kind === "fopdt" && row.record_id === props.record && !row.stale,
  ),
);
const ofFit = (name: string) =>
  fit.value?.model.parameters.find((parameter) => parameter.name === name)?.value ?? null;
</script>

<template>
  <p class="mb-2 text-soft">
    Draw the marks on the strip: start of the move, first reaction, settled, and the level of the final value.
    Tab and arrow keys move them, too.
  </p>
  <p v-if="problem" class="mb-2 border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
    {{ problem }}
  </p>
  <template v-if="reading">
    <table class="w-full" aria-label="Readings">
      <thead class="text-[12px] text-soft">
        <tr>
          <th class="text-left font-normal">method</th>
          <th class="text-right font-normal">gain<br />{{ reading.gain_unit }}</th>
          <th class="text-right font-normal">dead time<br />s</th>
          <th class="text-right font-normal">time const.<br />s</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in reading.readings" :key="row.method" class="border-t border-rule align-top">
          <td class="py-[3px] pr-2 text-[12.5px] leading-tight">{{ row.method }}</td>
          <td class="text-right">{{ number(reading.gain) }}</td>
          <td class="text-right font-semibold">{{ number(row.dead_time) }}</td>
          <td class="text-right font-semibold">{{ number(row.time_constant) }}</td>
        </tr>
        <tr v-if="fit" class="border-t border-ink align-top">
          <td class="py-[3px] pr-2 text-[12.5px] leading-tight">
            model {{ letter(fit.number) }}, fitted to this record
          </td>
          <td class="text-right font-semibold">{{ number(ofFit("gain")) }}</td>
          <td class="text-right font-semibold">{{ number(ofFit("dead_time")) }}</td>
          <td class="text-right font-semibold">{{ number(ofFit("time_constant")) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="!fit" class="mt-2 text-[12.5px] text-soft">
      No first-order model is fitted to this record as it is now: nothing to compare with.
    </p>
    <dl class="mt-3 grid grid-cols-[1fr_auto] gap-y-[3px]">
      <dt class="text-soft">OP moved by</dt>
      <dd class="text-right">{{ number(reading.move_size) }} %</dd>
      <dt class="text-soft">PV from</dt>
      <dd class="text-right">{{ number(reading.initial_value, 4) }} {{ unit }}</dd>
      <dt class="text-soft">PV to</dt>
      <dd class="text-right">{{ number(reading.marks.final_value, 4) }} {{ unit }}</dd>
    </dl>
  </template>
  <button type="button" class="button mt-3" @click="emit('suggest')">Suggest marks</button>
</template>
