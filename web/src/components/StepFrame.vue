<script setup lang="ts">
/** The one arrangement of every step: look left, set right, compare below. */
</script>

<template>
  <div
    class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_348px] grid-rows-[minmax(0,1fr)_auto] max-[900px]:block max-[900px]:overflow-y-auto"
  >
    <section class="min-h-0 min-w-0 pt-2 pl-2 max-[900px]:h-[max(75vh,320px)]" aria-label="Strip">
      <slot name="strip" />
    </section>
    <aside
      class="relative min-h-0 overflow-y-auto border-l border-rule bg-sheet px-4 py-3"
      aria-label="Margin"
    >
      <slot name="margin" />
    </aside>
    <section
      class="col-span-2 h-[190px] overflow-auto border-t border-ink bg-paper [@media(max-height:700px)]:h-[140px]"
      aria-label="Trail"
    >
      <slot name="trail" />
    </section>
  </div>
</template>
