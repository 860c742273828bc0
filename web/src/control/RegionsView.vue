<script setup lang="ts">
/** The law of a predictive controller written out: its regions over two of the things that it knows. */
import { computed, ref, shallowRef, useTemplateRef, watch } from "vue";
import { answered, api, isRefused, messageOf, type Trial } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import StateNotice from "../components/StateNotice.vue";
import { comebacks } from "../lib/live";
import { number } from "../lib/format";
import { useSize } from "../lib/size";
import { linearTicks } from "../lib/xy";
import { kindsOf, lawOf, sizeOf, type Kind, type Region, type RegionMap } from "./regions";

const props = defineProps<{ trial: Trial }>();

const map = shallowRef<RegionMap | null>(null);
const problem = ref("");
/** A law that is too large, or none of its kind, is no failure: there is nothing to draw. */
const nothing = ref(false);
const over = ref<[number, number]>([0, 1]);
let ticket = 0;

watch(
  [
    () => JSON.stringify([props.trial.plant, props.trial.candidate, props.trial.scenario.scan]),
    over,
    comebacks,
  ],
  async () => {
    const own = ++ticket;
    try {
      const found = await answered(
        api.POST("/api/v1/predictive/regions", { body: { trial: props.trial, over: over.value } }),
      );
      if (own !== ticket) return;
      [map.value, problem.value, chosen.value] = [found, "", null];
    } catch (error) {
      if (own === ticket)
        [map.value, problem.value, nothing.value] = [null, messageOf(error), isRefused(error)];
    }
  },
  { immediate: true },
);

const kinds = computed(() => (map.value ? kindsOf(map.value) : []));
const choices = computed(() =>
  (map.value?.parameters ?? []).map((parameter, k) => ({ value: String(k), title: parameter.title })),
);

function choose(axis: 0 | 1, place: string) {
  const other = over.value[axis === 0 ? 1 : 0];
  const next = Number(place);
  // The same one twice: the two change places.
  if (next === other) over.value = [over.value[1], over.value[0]];
  else over.value = axis === 0 ? [next, other] : [other, next];
}

/** The region that is pointed at, or was clicked. */
const chosen = shallowRef<{ kind: Kind; region: Region } | null>(null);
const pointed = shallowRef<{ kind: Kind; region: Region } | null>(null);
const shown = computed(() => pointed.value ?? chosen.value);

const host = useTemplateRef<HTMLDivElement>("host");
const size = useSize(host);
const [LEFT, TOP, BOTTOM, RIGHT] = [64, 26, 38, 12];
/** Smallest share of the map that carries its number. */
const LABELLED = 0.004;

const axes = computed(() => map.value?.over.map((place) => map.value?.parameters[place]) ?? []);
const px = (x: number) => {
  const axis = axes.value[0];
  if (!axis) return 0;
  return LEFT + ((x - axis.low) / (axis.high - axis.low)) * (size.value.width - LEFT - RIGHT);
};
const py = (y: number) => {
  const axis = axes.value[1];
  if (!axis) return 0;
  return TOP + (1 - (y - axis.low) / (axis.high - axis.low)) * (size.value.height - TOP - BOTTOM);
};
const path = (corners: number[][]) =>
  `M${corners.map(([x, y]) => `${px(x as number)} ${py(y as number)}`).join("L")}Z`;

const FILLS: Record<Kind["fill"], string> = {
  free: "color-mix(in srgb, var(--pv) 16%, transparent)",
  later: "transparent",
  high: "url(#at-high)",
  low: "url(#at-low)",
  fast: "url(#as-fast)",
};
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col gap-1 pr-3 pb-1">
    <StateNotice v-if="problem" :kind="nothing ? 'empty' : 'failed'" title="The law cannot be written out">{{
      problem
    }}</StateNotice>
    <StateNotice v-else-if="!map" kind="loading" title="The regions of the law are being found" />
    <div v-else class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_300px] gap-3">
      <div ref="host" class="relative min-h-0 overflow-hidden">
        <svg
          :width="size.width"
          :height="size.height"
          role="img"
          :aria-label="`Regions of the law over ${axes[0]?.title} and ${axes[1]?.title}`"
          @mouseleave="pointed = null"
        >
          <defs>
            <pattern
              id="at-high"
              width="7"
              height="7"
              patternUnits="userSpaceOnUse"
              patternTransform="rotate(45)"
            >
              <line x1="0" y1="0" x2="0" y2="7" stroke="var(--op)" stroke-width="2.4" />
            </pattern>
            <pattern
              id="at-low"
              width="7"
              height="7"
              patternUnits="userSpaceOnUse"
              patternTransform="rotate(-45)"
            >
              <line x1="0" y1="0" x2="0" y2="7" stroke="var(--dv)" stroke-width="1.4" />
            </pattern>
            <pattern id="as-fast" width="7" height="7" patternUnits="userSpaceOnUse">
              <circle cx="3.5" cy="3.5" r="1.2" fill="var(--limit)" />
            </pattern>
          </defs>
          <text :x="LEFT" y="16" class="fill-ink text-[12.5px] font-semibold">
            What the controller does, by what limits it
          </text>
          <g class="fill-soft text-[12px]">
            <template
              v-for="tick in axes[0] ? linearTicks(axes[0].low, axes[0].high, 7) : []"
              :key="`x ${tick}`"
            >
              <text :x="px(tick)" :y="size.height - BOTTOM + 15" text-anchor="middle">
                {{ number(tick) }}
              </text>
            </template>
            <template
              v-for="tick in axes[1] ? linearTicks(axes[1].low, axes[1].high, 6) : []"
              :key="`y ${tick}`"
            >
              <text :x="LEFT - 7" :y="py(tick) + 4" text-anchor="end">{{ number(tick) }}</text>
            </template>
            <text :x="size.width - RIGHT" :y="size.height - 5" text-anchor="end">
              {{ axes[0]?.title }}, {{ axes[0]?.unit }}
            </text>
            <text :transform="`translate(14 ${TOP}) rotate(-90)`" text-anchor="end">
              {{ axes[1]?.title }}, {{ axes[1]?.unit }}
            </text>
          </g>
          <g v-for="kind in kinds" :key="kind.label">
            <path
              v-for="(one, k) in kind.regions"
              :key="k"
              :d="path(one.region.corners)"
              :fill="FILLS[kind.fill]"
              :stroke="shown?.region === one.region ? 'var(--ink)' : 'var(--measured)'"
              :stroke-width="shown?.region === one.region ? 2.6 : 0.9"
              class="cursor-pointer"
              pointer-events="all"
              @mouseenter="pointed = { kind, region: one.region }"
              @click="chosen = { kind, region: one.region }"
            />
          </g>
          <g v-for="kind in kinds" :key="`label ${kind.label}`" pointer-events="none">
            <template v-for="(one, k) in kind.regions" :key="k">
              <text
                v-if="one.share > LABELLED"
                :x="px(one.at[0])"
                :y="py(one.at[1]) + 4"
                text-anchor="middle"
                class="fill-ink text-[12px] font-semibold [paint-order:stroke]"
                stroke="var(--paper)"
                stroke-width="4"
              >
                {{ kind.label }}
              </text>
            </template>
          </g>
          <g v-if="axes[0] && axes[1]" pointer-events="none">
            <circle
              :cx="px(axes[0].rests_at)"
              :cy="py(axes[1].rests_at)"
              r="4.5"
              fill="var(--paper)"
              stroke="var(--ink)"
              stroke-width="2"
            />
          </g>
        </svg>
      </div>
      <div
        class="grid min-h-0 content-start gap-2 overflow-y-auto"
        tabindex="0"
        role="group"
        aria-label="The law"
      >
        <ChoiceField
          label="To the right"
          :model-value="String(over[0])"
          :choices="choices"
          @update:model-value="(place) => choose(0, place)"
        />
        <ChoiceField
          label="Upwards"
          :model-value="String(over[1])"
          :choices="choices"
          @update:model-value="(place) => choose(1, place)"
        />
        <p class="text-[12.5px] text-soft">All else at rest, ○ where the trial begins.</p>
        <div class="border-l-[3px] border-rule pl-3" aria-live="polite">
          <template v-if="shown">
            <p class="font-semibold">
              {{ shown.kind.label }}: {{ shown.kind.limits.join("; ") || "no limit is felt" }}
            </p>
            <p v-for="law in shown.region.law" :key="law.tag" class="font-mono text-[12.5px]">
              {{ map && lawOf(map, law) }}
            </p>
          </template>
          <p v-else class="text-soft">Point at a region: what holds in it stands here.</p>
        </div>
        <ol class="text-[12.5px]" aria-label="What limits the regions">
          <li
            v-for="kind in kinds"
            :key="kind.label"
            class="flex gap-2 border-b border-rule py-[2px] last:border-0"
          >
            <span class="w-[20px] shrink-0 text-right font-semibold">{{ kind.label }}</span>
            <span class="min-w-0 flex-1">{{ kind.limits.join("; ") || "no limit is felt" }}</span>
            <span class="text-soft">{{ number(100 * kind.share) }} %</span>
          </li>
        </ol>
        <p class="text-[12.5px] text-soft">{{ sizeOf(map) }}</p>
      </div>
    </div>
  </div>
</template>
