<script setup lang="ts">
/** The matrices of a state space, a field an entry; states are added and taken away. */
import { computed, ref } from "vue";
import type { Trial } from "../api/client";
import { readNumber } from "../lib/format";

type StateSpace = Extract<Trial["plant"]["process"], { structure: "state_space" }>;

defineProps<{ field: string; problem: string }>();
const spec = defineModel<StateSpace>({ required: true });
const emit = defineEmits<{ unread: [faults: Record<string, string>] }>();
const faults = ref<Record<string, string>>({});

const shown = computed(() => {
  const { a, b, c, d, inputs, outputs } = spec.value;
  const zero = outputs.map(() => inputs.map(() => 0));
  return [
    { name: "A", key: "a" as const, rows: a },
    { name: "B", key: "b" as const, rows: b },
    { name: "C", key: "c" as const, rows: c },
    { name: "D", key: "d" as const, rows: d?.length ? d : zero },
  ];
});

function set(key: "a" | "b" | "c" | "d", i: number, j: number, text: string) {
  const value = readNumber(text);
  const at = `${key} ${i} ${j}`;
  const others = Object.fromEntries(Object.entries(faults.value).filter(([known]) => known !== at));
  faults.value = Number.isFinite(value)
    ? others
    : { ...others, [at]: `“${text}” in ${key.toUpperCase()} is no number` };
  emit("unread", faults.value);
  if (!Number.isFinite(value)) return;
  const process = spec.value;
  if (key === "d" && !process.d?.length) process.d = process.outputs.map(() => process.inputs.map(() => 0));
  const row = (key === "d" ? process.d : process[key])?.[i];
  if (row) row[j] = value;
}

function setDeadTime(k: number, text: string) {
  const value = readNumber(text);
  if (!Number.isFinite(value)) return;
  const process = spec.value;
  if (!process.dead_times?.length) process.dead_times = process.inputs.map(() => 0);
  process.dead_times[k] = value;
}

function addState() {
  const process = spec.value;
  process.a.forEach((row) => row.push(0));
  process.a.push([...process.a.map(() => 0), -0.01]);
  process.b.push(process.inputs.map(() => 0));
  process.c.forEach((row) => row.push(0));
}

function removeState() {
  const process = spec.value;
  if (process.a.length < 2) return;
  process.a.pop();
  process.a.forEach((row) => row.pop());
  process.b.pop();
  process.c.forEach((row) => row.pop());
}
</script>

<template>
  <div class="min-w-0 overflow-x-auto" tabindex="0" role="region" aria-label="Matrices">
    <div class="mb-2 flex items-center gap-2">
      <span>{{ spec.a.length }} states</span>
      <button type="button" class="button !px-2 !py-0 text-[12px]" @click="addState">add a state</button>
      <button
        type="button"
        class="button !px-2 !py-0 text-[12px]"
        :disabled="spec.a.length < 2"
        @click="removeState"
      >
        take the last away
      </button>
    </div>
    <div class="flex flex-wrap gap-x-5 gap-y-3">
      <table v-for="{ name, key, rows } in shown" :key="key" :aria-label="`Matrix ${name}`">
        <caption class="text-left font-semibold">
          {{
            name
          }}
        </caption>
        <tbody>
          <tr v-for="(row, i) in rows" :key="i">
            <td v-for="(value, j) in row" :key="j" class="p-[1px]">
              <input
                class="entry w-[68px] text-right"
                :class="`${key} ${i} ${j}` in faults ? '!border-limit' : ''"
                inputmode="decimal"
                :value="value"
                :aria-label="`${name}, row ${i + 1}, column ${j + 1}`"
                :aria-invalid="`${key} ${i} ${j}` in faults"
                @change="set(key, i, j, ($event.target as HTMLInputElement).value)"
              />
            </td>
          </tr>
        </tbody>
      </table>
      <table aria-label="Dead times of the inputs">
        <caption class="text-left font-semibold">
          θ, s
        </caption>
        <tbody>
          <tr>
            <td v-for="(input, k) in spec.inputs" :key="k" class="p-[1px]">
              <input
                class="entry w-[68px] text-right"
                inputmode="decimal"
                :value="spec.dead_times?.[k] ?? 0"
                :aria-label="`Dead time of ${input.name}`"
                @change="setDeadTime(k, ($event.target as HTMLInputElement).value)"
              />
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-for="text in faults" :key="text" class="text-[12.5px] text-limit" role="alert">{{ text }}</p>
  </div>
</template>
