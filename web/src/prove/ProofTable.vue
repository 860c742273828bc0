<script setup lang="ts">
/** The table of a proof: a row a disturbance, a column a candidate; a cell tells the figure that decides, and opens its strip. */
import { computed } from "vue";
import type { Schemas } from "../api/client";
import { percent, saidWithUnit, type Cell, type ProofRow, type Told } from "./proof";

type Spread = Schemas["Spread"];

const props = defineProps<{
  row: ProofRow;
  /** Title of the figure that is shown; empty for what decides in each cell. */
  figure: string;
  /** What a candidate is besides its name. */
  labels: string[];
}>();
const emit = defineEmits<{ open: [disturbance: number, candidate: number] }>();

const result = computed(() => props.row.result);
const withPlants = computed(() => result.value.shares.some((share) => share != null));
/** With many candidates the reasons make room: they stand in the hints of the names. */
const withReasons = computed(() => result.value.candidates.length < 4);
const reasons = computed(() => props.row.proof.set.disturbances.map((one) => one.reason ?? ""));

/** A line of the title of a cell: a figure with its limit and its worst. */
function lineOf(told: Told, spread: Spread): string {
  const most = told.most == null ? "" : `, at most ${saidWithUnit(told.most, told)}`;
  const over = spread.quantiles.length ? `, at worst ${saidWithUnit(spread.worst, told)}` : "";
  return `${told.title}: ${saidWithUnit(spread.own, told)}${over}${most}`;
}

function shown(criteria: Told[], cell: Cell) {
  const asked = criteria.findIndex((told) => told.title === props.figure);
  const k = asked < 0 ? cell.decides : asked;
  const [told, spread] = [criteria[k], cell.figures[k]];
  if (!told || !spread) return null;
  const isAsked = !props.figure || told.title === props.figure;
  const value = withPlants.value ? spread.worst : spread.own;
  return {
    cell,
    told,
    text: isAsked ? saidWithUnit(value, told) : "–",
    limit: isAsked && told.most != null ? saidWithUnit(told.most, told) : "",
    share: cell.share ? percent(cell.share) : "",
    fails: cell.passes === false,
    title: criteria.map((own, n) => (cell.figures[n] ? lineOf(own, cell.figures[n]) : "")).join("\n"),
  };
}
const table = computed(() =>
  result.value.rows.map((row, r) => ({
    row,
    reason: reasons.value[r] ?? "",
    cells: (result.value.cells[r] ?? []).flatMap((cell) => shown(row.criteria, cell) ?? []),
  })),
);
const totals = computed(() =>
  result.value.candidates.map((_, c) => {
    const share = result.value.shares[c];
    return {
      text: share ? `${share.passes} of ${share.of}` : `${result.value.kept[c]} of ${result.value.limited}`,
      interval: share ? share.interval.map((end) => (100 * end).toFixed(1)).join("–") + " %" : "",
      whole: share
        ? share.passes === share.of && result.value.holds[c] === true
        : result.value.holds[c] === true,
      more: share ? `${share.to_halve} plants more would halve this interval` : "",
    };
  }),
);
</script>

<template>
  <div
    class="min-h-0 flex-1 overflow-auto pr-3 pb-2"
    tabindex="0"
    role="group"
    aria-label="The table of the proof"
  >
    <p class="pb-1 text-[12.5px] text-soft">
      {{ figure || "The figure that decides"
      }}{{
        withPlants ? ", at worst over the plants; the small figure is the share of them that passes" : ""
      }}. Press a cell to open its strip.
    </p>
    <table class="w-full border-collapse bg-sheet text-[13px]">
      <thead class="sticky top-0 z-10 bg-sheet text-soft">
        <tr>
          <th scope="col" class="px-2 py-1 text-left font-normal">disturbance</th>
          <th v-if="withReasons" scope="col" class="px-2 py-1 text-left font-normal max-[1200px]:hidden">
            why it is here
          </th>
          <th
            v-for="(name, c) in result.candidates"
            :key="name"
            scope="col"
            class="px-2 py-1 text-right font-normal"
          >
            <strong class="text-ink">{{ name }}</strong>
            <span v-if="c === result.compared_with" class="ml-1 text-[11.5px]">compared with</span>
            <span class="ml-auto block max-w-[150px] truncate text-[11.5px]" :title="labels[c]">{{
              labels[c]
            }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(line, r) in table" :key="line.row.name" class="border-t border-rule align-top">
          <th scope="row" class="min-w-[128px] px-2 py-[3px] text-left font-normal" :title="line.reason">
            {{ line.row.name }}
          </th>
          <td
            v-if="withReasons"
            class="max-w-[150px] truncate px-2 py-[3px] text-[12.5px] text-soft max-[1200px]:hidden"
            :title="line.reason"
          >
            {{ line.reason }}
          </td>
          <td v-for="(one, c) in line.cells" :key="c" class="p-0 text-right">
            <button
              type="button"
              class="w-full px-2 py-[3px] text-right hover:bg-wash"
              :class="one.fails ? 'bg-limit/8' : ''"
              :title="one.cell.trouble ? `${one.cell.trouble}\n${one.title}` : one.title"
              :data-cell="`${r} ${c}`"
              @click="emit('open', r, c)"
            >
              <span class="sr-only">{{ line.row.name }}, {{ result.candidates[c] }}: </span>
              <span v-if="one.fails" aria-hidden="true" class="mr-1 text-limit">▲</span>
              <strong :class="one.fails ? 'text-limit' : ''">{{
                one.cell.trouble ? "not run" : one.text
              }}</strong>
              <span v-if="one.fails && !one.cell.trouble" class="ml-1 text-[11.5px] text-limit">fails</span>
              <span v-if="one.share" class="ml-1 text-[11.5px] text-soft">{{ one.share }}</span>
              <span
                v-if="!figure && !one.cell.trouble"
                class="block text-[11.5px] whitespace-nowrap text-soft"
              >
                {{ one.told.title }}{{ one.limit ? ` ≤ ${one.limit}` : "" }}
              </span>
            </button>
          </td>
        </tr>
        <tr class="border-t border-ink font-semibold">
          <th scope="row" class="px-2 py-1 text-left" colspan="1">passes all</th>
          <td v-if="withReasons" class="max-[1200px]:hidden" />
          <td v-for="(total, c) in totals" :key="c" class="px-2 py-1 text-right" :title="total.more">
            <span :class="total.whole ? '' : 'text-limit'">{{
              result.holds[c] == null ? "no limit" : total.text
            }}</span>
            <span v-if="total.interval" class="ml-1 text-[11.5px] font-normal text-soft">{{
              total.interval
            }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
