<script setup lang="ts">
/** Which structure each cell of a matrix is to have: outputs down, inputs across. */
import { useStructures, type Kind } from "../lib/structures";
import type { FitDraft } from "./useFit";

defineProps<{ fit: FitDraft }>();
const structures = useStructures();
</script>

<template>
  <div class="overflow-x-auto border-l-[3px] border-rule pl-3" tabindex="0" aria-label="Cells of the matrix">
    <p class="text-[12.5px] text-soft">How each input acts on each output</p>
    <table class="text-[13px]">
      <thead class="text-[12px] text-soft">
        <tr>
          <th class="text-left font-normal"><span class="sr-only">output</span></th>
          <th v-for="input in fit.inputs.value" :key="input" class="px-1 text-left font-normal">
            {{ input }}
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="output in fit.outputs.value" :key="output">
          <th class="pr-1 text-left font-normal whitespace-nowrap">{{ output }}</th>
          <td v-for="input in fit.inputs.value" :key="input" class="p-[2px]">
            <select
              class="entry w-[104px] !px-1"
              :aria-label="`From ${input} to ${output}`"
              :value="fit.cellOf(output, input)"
              @change="
                fit.setCell(output, input, ($event.target as HTMLSelectElement).value as Kind | 'none')
              "
            >
              <option value="none">none</option>
              <option
                v-for="one in structures.filter((offer) => offer.is_process)"
                :key="one.structure.kind"
                :value="one.structure.kind"
                :title="one.title"
              >
                {{ one.short }}
              </option>
            </select>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
