<script setup lang="ts">
/** Below a trail: how many rows are further back than those that are shown, and the next of them on demand. */
import { computed } from "vue";
import { plural } from "../lib/format";
import { useLoop, type Rows } from "../lib/loop";

const props = defineProps<{
  rows: Rows;
  /** What stands in the trail however old it is. */
  note: string;
}>();
const loop = useLoop();
// What cannot be read is no older row: it has a list of its own.
const further = computed(
  () => loop.state.inAll[props.rows] - loop.state[props.rows].length - loop.state.unreadable[props.rows],
);
</script>

<template>
  <p v-if="further > 0" class="px-3 py-1 text-[12.5px] text-soft">
    <button type="button" class="button !py-0" @click="loop.showOlder(rows)">Show older</button>
    {{ plural(further, rows.slice(0, -1)) }} further back; {{ note }}.
  </p>
</template>
