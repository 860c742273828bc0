<script setup lang="ts">
/** A number with its unit: typed, nudged with the arrow keys, with Shift by a factor. */
import { computed, ref, useId, watch } from "vue";
import { useExplore } from "../lib/halves";
import { editable, readDuration, readNumber } from "../lib/format";

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
    /** While it has the focus what half and twice of it would do is drawn. */
    halves?: boolean;
    /** What the server refused about it. */
    problem?: string;
  }>(),
  { range: "", hint: "", min: -Infinity, max: Infinity, whenEmpty: "", problem: "" },
);
const emit = defineEmits<{ "update:modelValue": [value: number | null]; settled: [] }>();

const RATIO = 1.2;
/** What is in s may be typed as `2 h`, `36:10`, `3 d`. */
const isTime = computed(() => props.unit === "s");
/** As good as no upper end: that is not told. */
const FAR = 1e7;
const id = useId();
const text = ref("");
const own = ref("");
const problem = computed(() => own.value || props.problem);

watch(
  () => props.modelValue,
  (value) => {
    if (value === null) text.value = "";
    else if (parsed(text.value) !== value || text.value === "")
      text.value = editable(value).replace("-", "−");
    own.value = "";
  },
  { immediate: true },
);

const allowed = computed(() => {
  if (props.range) return props.range;
  if (props.min > -Infinity && props.max < FAR)
    return props.exclusive ? `above ${props.min}, up to ${props.max}` : `${props.min} to ${props.max}`;
  if (props.min > -Infinity) return props.exclusive ? `above ${props.min}` : `${props.min} or more`;
  return "";
});

function parsed(entry: string): number {
  return isTime.value ? readDuration(entry) : readNumber(entry);
}

const allows = (value: number) =>
  Number.isFinite(value) && (props.exclusive ? value > props.min : value >= props.min) && value <= props.max;

// --- half and twice, while it has the focus ---

const explore = useExplore();
const focused = ref(false);
watch(
  () => (props.halves && focused.value ? props.modelValue : null),
  (value) => {
    const set = (other: number) => emit("update:modelValue", other);
    explore(value ? { value, set, allows } : null);
  },
);

function take(value: number) {
  if (!allows(value)) {
    own.value = `allowed: ${allowed.value || (isTime.value ? "a time, such as 90, 2 h or 36:10" : "a number")}`;
    return;
  }
  own.value = "";
  if (value !== props.modelValue) emit("update:modelValue", value);
}

function typed() {
  const plain = text.value.trim();
  if (plain === "" && props.whenEmpty) {
    own.value = "";
    emit("update:modelValue", null);
  } else if (plain === "") {
    own.value = `allowed: ${allowed.value || (isTime.value ? "a time, such as 90, 2 h or 36:10" : "a number")}`;
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

// A form with an entry that cannot be is not sent: what is typed stays there to be mended.
const entry = ref<HTMLInputElement | null>(null);
watch(own, (text) => entry.value?.setCustomValidity(text));

function left() {
  focused.value = false;
  if (own.value && entry.value?.form) return;
  if (own.value && props.modelValue !== null) {
    text.value = editable(props.modelValue).replace("-", "−");
    own.value = "";
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
        :class="[own ? 'font-semibold text-limit' : 'text-soft', hint || own ? '' : 'whitespace-nowrap']"
      >
        {{ own || hint || allowed }}
      </span>
    </label>
    <div
      class="flex h-[30px] w-[158px] items-stretch rounded-[5px] border bg-raised focus-within:border-pv focus-within:ring-2 focus-within:ring-pv/30"
      :class="problem ? 'border-limit' : 'border-rule'"
    >
      <input
        :id="id"
        ref="entry"
        v-model="text"
        class="w-full min-w-0 bg-transparent pl-2 text-right text-[15px] font-semibold outline-none"
        inputmode="decimal"
        autocomplete="off"
        spellcheck="false"
        :placeholder="whenEmpty"
        :aria-invalid="problem !== ''"
        :aria-description="`${unit} ${problem || allowed}`"
        @input="typed"
        @focus="focused = true"
        @keydown="pressed"
        @blur="left"
        @invalid.prevent="entry?.focus()"
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
    <p v-if="!own && problem" class="col-span-2 text-[12.5px] text-limit" role="alert">{{ problem }}</p>
  </div>
</template>
