<script setup lang="ts">
/** A number with its unit: typed, nudged with the arrow keys, with Shift by a factor. */
import { computed, ref, useId, watch } from "vue";
import { editable } from "../lib/format";

const props = withDefaults(
  defineProps<{
    label: string;
    unit: string;
    modelValue: number | null;
    /** Allowed range as it is shown, such as `above 0`. */
    range?: string;
    /** What it is, shown in place of the range as long as nothing is wrong. */
    hint?: string;
    min?: number;
    max?: number;
    /** The value `min` itself is not allowed. */
    exclusive?: boolean;
    /** An empty entry stands for this, such as `off`. */
    whenEmpty?: string;
    /** Buttons that divide and multiply: for what is tuned by ratio. */
    byRatio?: boolean;
  }>(),
  { range: "", hint: "", min: -Infinity, max: Infinity, whenEmpty: "" },
);
const emit = defineEmits<{ "update:modelValue": [value: number | null]; settled: [] }>();

const RATIO = 1.2;
const id = useId();
const text = ref("");
const problem = ref("");

watch(
  () => props.modelValue,
  (value) => {
    if (value === null) text.value = "";
    else if (parsed(text.value) !== value || text.value === "")
      text.value = editable(value).replace("-", "−");
    problem.value = "";
  },
  { immediate: true },
);

const allowed = computed(() => {
  if (props.range) return props.range;
  if (props.min > -Infinity && props.max < Infinity) return `${props.min} to ${props.max}`;
  if (props.min > -Infinity) return props.exclusive ? `above ${props.min}` : `${props.min} or more`;
  return "";
});

function parsed(entry: string): number {
  return Number(entry.trim().replace(",", ".").replace("−", "-"));
}

function take(value: number) {
  const tooLow = props.exclusive ? value <= props.min : value < props.min;
  if (!Number.isFinite(value) || tooLow || value > props.max) {
    problem.value = `allowed: ${allowed.value || "a number"}`;
    return;
  }
  problem.value = "";
  if (value !== props.modelValue) emit("update:modelValue", value);
}

function typed() {
  const plain = text.value.trim();
  if (plain === "" && props.whenEmpty) {
    problem.value = "";
    emit("update:modelValue", null);
  } else if (plain === "") {
    problem.value = `allowed: ${allowed.value || "a number"}`;
  } else {
    take(parsed(plain));
  }
}

function set(value: number) {
  const rounded = Number(value.toPrecision(4));
  text.value = editable(rounded).replace("-", "−");
  take(rounded);
}

function scale(factor: number) {
  if (props.modelValue !== null) set(props.modelValue * factor);
}

function nudge(direction: number, byFactor: boolean) {
  const value = props.modelValue ?? 0;
  if (byFactor) return scale(direction > 0 ? RATIO : 1 / RATIO);
  const size = value === 0 ? 1 : 10 ** (Math.floor(Math.log10(Math.abs(value))) - 1);
  set(Math.round(value / size + direction) * size);
}

function pressed(event: KeyboardEvent) {
  if (event.key === "ArrowUp" || event.key === "ArrowDown") {
    event.preventDefault();
    nudge(event.key === "ArrowUp" ? 1 : -1, event.shiftKey);
  } else if (event.key === "Enter") {
    emit("settled");
  }
}

function left() {
  if (problem.value && props.modelValue !== null) {
    text.value = editable(props.modelValue).replace("-", "−");
    problem.value = "";
  }
  emit("settled");
}
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-2">
    <label :for="id" class="leading-tight">
      {{ label }}
      <span
        class="ml-1 text-[12px]"
        :class="[problem ? 'font-semibold text-limit' : 'text-soft', hint ? '' : 'whitespace-nowrap']"
      >
        {{ problem || hint || allowed }}
      </span>
    </label>
    <div
      class="flex h-[30px] w-[158px] items-stretch rounded-[5px] border bg-raised focus-within:border-pv focus-within:ring-2 focus-within:ring-pv/30"
      :class="problem ? 'border-limit' : 'border-rule'"
    >
      <input
        :id="id"
        v-model="text"
        class="w-full min-w-0 bg-transparent pl-2 text-right text-[15px] font-semibold outline-none"
        inputmode="decimal"
        autocomplete="off"
        spellcheck="false"
        :placeholder="whenEmpty"
        :aria-invalid="problem !== ''"
        :aria-description="`${unit} ${problem || allowed}`"
        @input="typed"
        @keydown="pressed"
        @blur="left"
      />
      <span class="self-center pr-2 pl-1 text-[12px] whitespace-nowrap text-soft">{{ unit }}</span>
      <template v-if="byRatio">
        <button
          type="button"
          tabindex="-1"
          class="w-6 border-l border-rule text-soft hover:text-ink"
          :aria-label="`${label} divided by ${RATIO}`"
          :title="`÷ ${RATIO} (Shift+↓)`"
          @click="scale(1 / RATIO)"
        >
          ÷
        </button>
        <button
          type="button"
          tabindex="-1"
          class="w-6 border-l border-rule text-soft hover:text-ink"
          :aria-label="`${label} times ${RATIO}`"
          :title="`× ${RATIO} (Shift+↑)`"
          @click="scale(RATIO)"
        >
          ×
        </button>
      </template>
    </div>
  </div>
</template>
