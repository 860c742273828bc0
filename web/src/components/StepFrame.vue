<script setup lang="ts">
/** The one arrangement of every step: look left, set right, compare below. The height of the trail can be drawn. */
import { computed, onBeforeUnmount, onMounted, ref, useSlots, useTemplateRef } from "vue";

import { dateText } from "../lib/format";

const STORED = "antistasis-trail-height";
/** Whole rows: the head of the table, and so many rows under it. */
const HEAD = 43;
const ROW = 27.2;
const USUAL = { tall: HEAD + Math.ceil(6 * ROW), low: HEAD + Math.ceil(3 * ROW) };
const slots = useSlots();
const frame = useTemplateRef<HTMLDivElement>("frame");
const wanted = ref(Number(localStorage.getItem(STORED)) || 0);
const room = ref(600);

const most = computed(() => Math.max(80, room.value - 220));
const height = computed(() => {
  const usual = room.value < 620 ? USUAL.low : USUAL.tall;
  return Math.min(Math.max(wanted.value || usual, 60), most.value);
});

function set(value: number) {
  const rows = Math.max(1, Math.round((Math.min(value, most.value) - HEAD) / ROW));
  wanted.value = HEAD + Math.ceil(rows * ROW);
  localStorage.setItem(STORED, String(wanted.value));
}

function drawn(event: PointerEvent) {
  const target = event.currentTarget as HTMLElement;
  target.setPointerCapture(event.pointerId);
  const [from, before] = [event.clientY, height.value];
  const move = (moved: PointerEvent) => set(before + from - moved.clientY);
  const drop = () => {
    target.removeEventListener("pointermove", move);
    target.removeEventListener("pointerup", drop);
  };
  target.addEventListener("pointermove", move);
  target.addEventListener("pointerup", drop);
}

function nudged(event: KeyboardEvent) {
  const by = { ArrowUp: ROW, ArrowDown: -ROW }[event.key];
  if (by === undefined) return;
  event.preventDefault();
  event.stopPropagation();
  set(height.value + by);
}

/** What stands on paper and not on the screen. */
const title = ref("");
const printedAt = ref("");
function printed() {
  title.value = document.title;
  printedAt.value = dateText(new Date().toISOString());
}
window.addEventListener("beforeprint", printed);
onBeforeUnmount(() => window.removeEventListener("beforeprint", printed));
printed();

const observer = new ResizeObserver(([entry]) => {
  if (entry) room.value = entry.contentRect.height;
});
onMounted(() => frame.value && observer.observe(frame.value));
onBeforeUnmount(() => observer.disconnect());
</script>

<template>
  <div class="contents">
    <p class="print-head mb-2 hidden px-2 text-[13px]">
      <strong>{{ title }}</strong> · printed {{ printedAt }} · curves are labelled at their ends; the lines
      before the rows of the trail show how each is drawn
    </p>
    <div
      ref="frame"
      class="step-frame grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_348px] max-[900px]:block max-[900px]:overflow-y-auto"
      :style="{ gridTemplateRows: `minmax(0, 1fr) ${height}px` }"
    >
      <section class="relative min-h-0 min-w-0 pt-2 pl-2 max-[900px]:h-[max(75vh,320px)]" aria-label="Strip">
        <slot name="strip" />
      </section>
      <aside class="relative flex min-h-0 flex-col border-l border-rule bg-sheet" aria-label="Margin">
        <div
          class="relative min-h-0 flex-1 overflow-y-auto px-4 py-3"
          tabindex="0"
          role="group"
          aria-label="Settings"
        >
          <slot name="margin" />
        </div>
        <div
          v-if="slots.figures"
          class="relative max-h-[48%] shrink-0 overflow-y-auto border-t border-rule px-4 py-2 max-[900px]:max-h-none"
          tabindex="0"
          role="group"
          aria-label="Figures"
        >
          <slot name="figures" />
        </div>
      </aside>
      <section
        class="relative col-span-2 min-h-0 border-t border-ink bg-paper max-[900px]:h-[220px]"
        aria-label="Trail"
      >
        <div
          class="absolute inset-x-0 -top-[4px] z-20 h-[8px] cursor-ns-resize touch-none focus-visible:bg-pv/40 max-[900px]:hidden print:hidden"
          role="slider"
          aria-orientation="vertical"
          aria-label="Height of the trail"
          :aria-valuenow="height"
          :aria-valuemin="60"
          :aria-valuemax="most"
          tabindex="0"
          @pointerdown="drawn"
          @keydown="nudged"
        />
        <div class="h-full overflow-auto" tabindex="0" role="group" aria-label="Rows of the trail">
          <slot name="trail" />
        </div>
      </section>
    </div>
  </div>
</template>
