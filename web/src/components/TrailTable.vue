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

const props = defineProps<{
  rows: Row[];
  columns: Column[];
  selected: string | null;
  label: string;
  /** What a row is called, for those who do not see it. */
  nameOf: (row: Row) => string;
}>();
const emit = defineEmits<{ select: [row: Row] }>();
const body = useTemplateRef<HTMLElement>("body");

function move(by: number, withFocus = false) {
  const index = props.rows.findIndex((row) => row.id === props.selected);
  const row = props.rows[Math.min(Math.max(index + by, 0), props.rows.length - 1)];
  if (!row) return;
  emit("select", row);
  void nextTick(() => {
    const button = body.value?.querySelector<HTMLElement>(`[data-row="${row.id}"]`);
    button?.closest("tr")?.scrollIntoView({ block: "nearest" });
    if (withFocus) button?.focus();
  });
}

function pressed(event: KeyboardEvent) {
  const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
  if (by === undefined || !(event.target as HTMLElement).dataset.row) return;
  event.preventDefault();
  event.stopPropagation();
  move(by, true);
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
          <template v-if="column.title">{{ column.title }}</template>
          <span v-else class="sr-only">actions</span>
          <span v-if="column.unit" class="block text-[11.5px]">{{ column.unit }}</span>
        </th>
      </tr>
    </thead>
    <tbody ref="body" @keydown="pressed">
      <tr
        v-for="row in rows"
        :key="row.id"
        class="cursor-pointer border-t border-rule"
        :class="row.id === selected ? 'bg-wash' : 'hover:bg-sheet'"
        @click="emit('select', row)"
      >
        <td
          v-for="(column, c) in columns"
          :key="column.key"
          class="px-3 py-[4px] whitespace-nowrap max-[1200px]:px-[6px]"
          :class="column.text ? 'text-left' : 'text-right'"
        >
          <button
            v-if="c === 0"
            type="button"
            class="text-left"
            :data-row="row.id"
            :aria-pressed="row.id === selected"
            :aria-label="nameOf(row)"
            @click.stop="emit('select', row)"
          >
            <slot :name="column.key" :row="row" />
          </button>
          <slot v-else :name="column.key" :row="row" />
        </td>
      </tr>
    </tbody>
  </table>
</template>
