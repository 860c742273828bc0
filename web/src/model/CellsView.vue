<script setup lang="ts">
/** All ways of a model at once: the answer of each output (down) to a step of each input (across), over one time axis. */
import { ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type ModelRow, type Schemas } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import XyPlot from "../components/XyPlot.vue";
import { number } from "../lib/format";
import { comebacks } from "../lib/live";
import { inWords, shortName } from "../lib/structures";
import type { Line } from "../lib/xy";

const props = defineProps<{ model: ModelRow }>();
const emit = defineEmits<{ show: [output: string] }>();

type Cell = Schemas["Cell"];
const found = shallowRef<Schemas["Cells"] | null>(null);
const problem = ref("");
watch(
  [() => props.model.id, comebacks],
  async ([id]) => {
    found.value = null;
    problem.value = "";
    try {
      const cells = await answered(api.GET("/api/v1/models/{id}/cells", { params: { path: { id } } }));
      if (props.model.id === id) found.value = cells;
    } catch (error) {
      if (props.model.id === id) problem.value = messageOf(error);
    }
  },
  { immediate: true },
);

function lines({ step }: Cell): Line[] {
  const half = step.half_widths.length ? step.half_widths : undefined;
  return [{ x: step.times, y: step.values, half, colour: "--pv", width: 2 }];
}

/** What a cell is, in a line: its structure, and each parameter with its error. */
function words(cell: Cell): string {
  const known = cell.parameters.map((one) => {
    const error = one.standard_error ? ` ± ${number(one.standard_error, 2)}` : "";
    return `${inWords(one.name)} ${number(one.value)}${error} ${one.unit}`.trim();
  });
  return [cell.structure ? shortName(cell.structure) : "", ...known].filter(Boolean).join(", ");
}
/** The same in the letters of the trade, to stand beside the curve. */
const LETTERS: Record<string, string> = {
  gain: "K",
  time_constant: "τ",
  time_constant_1: "τ₁",
  time_constant_2: "τ₂",
  lead_time_constant: "Tz",
  damping: "ζ",
  dead_time: "θ",
};
function shorter(cell: Cell): string {
  return cell.parameters
    .map((one) => `${LETTERS[one.name] ?? one.name} ${number(one.value)}${one.unit === "s" ? " s" : ""}`)
    .join(" · ");
}
</script>

<template>
  <StateNotice v-if="problem" kind="failed" title="The ways cannot be shown">{{ problem }}</StateNotice>
  <StateNotice v-else-if="!found" kind="loading" title="Responses on their way" />
  <div v-else class="flex h-full min-h-0 flex-col gap-1 overflow-auto pb-1">
    <p class="pl-14 text-[13px] text-soft">
      Each output (down) after a step of one unit of each input (across). Shaded: 95 % band.
    </p>
    <div
      class="grid min-h-0 flex-1 gap-x-1"
      :style="{
        gridTemplateColumns: `repeat(${found.inputs.length}, minmax(190px, 1fr))`,
        gridAutoRows: 'minmax(150px, 1fr)',
      }"
    >
      <template v-for="(row, i) in found.rows" :key="i">
        <div
          v-for="(cell, j) in row"
          :key="j"
          class="flex min-h-0 flex-col border-b border-rule"
          :title="cell ? words(cell) : ''"
        >
          <template v-if="cell">
            <div class="min-h-0 flex-1">
              <XyPlot
                :lines="lines(cell)"
                :title="`${found.outputs[i]?.tag} by ${found.inputs[j]?.tag}`"
                :y-title="`${found.outputs[i]?.unit}/${found.inputs[j]?.unit || '1'}`"
                x-title="s"
              />
            </div>
            <p class="truncate pr-2 pl-14 text-[12.5px]">
              <button
                type="button"
                class="underline decoration-rule underline-offset-2"
                :aria-label="`${cell.structure ? shortName(cell.structure) : 'step'}: look at ${found.outputs[i]?.tag} alone`"
                @click="emit('show', found.outputs[i]?.tag ?? '')"
              >
                {{ cell.structure ? shortName(cell.structure) : "step" }}
              </button>
              {{ shorter(cell) }}
            </p>
          </template>
          <p v-else class="m-auto text-[13px] text-soft">
            nothing goes from {{ found.inputs[j]?.tag }} to {{ found.outputs[i]?.tag }}
          </p>
        </div>
      </template>
    </div>
  </div>
</template>
