<script setup lang="ts">
import { computed, onMounted, ref } from "vue";
import { answered, api, messageOf, type LoopSummary } from "../api/client";
import StateNotice from "../components/StateNotice.vue";
import ThumbTrend from "../components/ThumbTrend.vue";
import TopLine from "../components/TopLine.vue";
import { duration, number, plural } from "../lib/format";

const loops = ref<LoopSummary[] | null>(null);
const failure = ref("");

const areas = computed(() => [...Map.groupBy(loops.value ?? [], (loop) => loop.area)]);

/** The step to go on with: the first that is not done. */
function nextStep(loop: LoopSummary): { name: string; words: string } {
  if (loop.records === 0) return { name: "measure", words: "no record yet" };
  if (loop.models === 0) return { name: "model", words: "to be modelled" };
  if (loop.trials === 0) return { name: "control", words: "to be tuned" };
  return { name: "control", words: plural(loop.trials, "trial") };
}

async function load() {
  failure.value = "";
  loops.value = null;
  try {
    loops.value = await answered(api.GET("/api/v1/loops"));
  } catch (error) {
    failure.value = messageOf(error);
  }
}

onMounted(load);
</script>

<template>
  <div class="flex h-full flex-col">
    <TopLine />
    <main class="min-h-0 flex-1 overflow-y-auto px-6 py-4">
      <StateNotice v-if="failure" kind="failed" title="The loops cannot be shown" :retry="() => load()">
        {{ failure }}
      </StateNotice>
      <StateNotice v-else-if="!loops" kind="loading" title="Loops on their way" />
      <StateNotice v-else-if="loops.length === 0" kind="empty" title="No loop yet">
        This database has no loops. <code>antistasis demo</code> serves one with the demo works in it.
      </StateNotice>
      <div v-else class="columns-[min(480px,100%)] gap-x-8">
        <section
          v-for="[area, members] in areas"
          :key="area"
          :aria-label="area"
          class="mb-5 break-inside-avoid"
        >
          <h2 class="heading border-b border-ink pb-1">{{ area }}</h2>
          <RouterLink
            v-for="loop in members"
            :key="loop.tag"
            :to="{ name: nextStep(loop).name, params: { tag: loop.tag } }"
            class="grid grid-cols-[minmax(0,1fr)_minmax(80px,180px)_112px] items-center gap-4 border-b border-rule px-1 py-2 hover:bg-wash"
          >
            <span class="min-w-0">
              <strong class="mr-2 font-semibold">{{ loop.tag }}</strong>
              <span>{{ loop.name }}</span>
              <span class="block truncate text-[12.5px] text-soft">{{ loop.difficulty }}</span>
            </span>
            <span class="min-w-0">
              <ThumbTrend
                v-if="loop.thumbnail?.length"
                :values="loop.thumbnail"
                :label="`Trend of ${loop.pv.tag} over ${duration(loop.duration)}`"
              />
              <span v-if="loop.thumbnail" class="flex justify-between text-[11.5px] text-soft">
                <span>{{ loop.pv.span.unit }}</span><span>{{ duration(loop.duration) }}</span>
              </span>
            </span>
            <span class="text-right text-[12.5px]">
              {{ nextStep(loop).words }}
              <span v-if="loop.fit_percent" class="block text-soft"
                >FOPDT {{ number(loop.fit_percent) }} %</span
              >
            </span>
          </RouterLink>
        </section>
      </div>
    </main>
  </div>
</template>
