<script setup lang="ts" generic="Row extends { id: string }">
/** Rows of models, records or trials: one selected, the columns given. */
import { nextTick, useTemplateRef } from "vue";
import { useKeys } from "../lib/keys";

export interface Column {
  key: string;
  title: string;
  unit?: string;
  text?: boolean;
}

const props = defineProps<{ rows: Row[]; columns: Column[]; selected: string | null; label: string }>();
const emit = defineEmits<{ select: [row: Row] }>();
const body = useTemplateRef<HTMLElement>("body");

function move(by: number) {
  const index = props.rows.findIndex((row) => row.id === props.selected);
  const row = props.rows[Math.min(Math.max(index + by, 0), props.rows.length - 1)];
  if (!row) return;
  emit("select", row);
  void nextTick(() =>
    body.value?.querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest" }),
  );
}

useKeys({ j: () => move(1), k: () => move(-1) });
</script>

<template>
  <table class="w-full border-collapse text-[13px]" :aria-label="label">
    <thead class="sticky top-0 z-10 bg-paper text-soft">
      <tr>
        <th
          v-for="column in columns"
          :key="column.key"
          class="px-3 py-[5px] max-[1200px]:px-[6px] align-bottom leading-tight font-normal"
          :class="column.text ? 'text-left' : 'text-right'"
          scope="col"
        >
          {{ column.title }}<span v-if="column.unit" class="block text-[11.5px]">{{ column.unit }}</span>
        </th>
      </tr>
    </thead>
    <tbody ref="body">
      <tr
        v-for="row in rows"
        :key="row.id"
        class="cursor-pointer border-t border-rule"
        :class="row.id === selected ? 'bg-wash' : 'hover:bg-sheet'"
        :aria-selected="row.id === selected"
        @click="emit('select', row)"
      >
        <td
          v-for="column in columns"
          :key="column.key"
          class="px-3 py-[4px] whitespace-nowrap max-[1200px]:px-[6px]"
          :class="column.text ? 'text-left' : 'text-right'"
        >
          <slot :name="column.key" :row="row" />
        </td>
      </tr>
    </tbody>
  </table>
</template>
