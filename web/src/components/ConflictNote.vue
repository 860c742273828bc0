<script setup lang="ts">
/** Somebody else changed the same meanwhile: what they made of it, and the choice between the two. */
defineProps<{ text: string }>();
const emit = defineEmits<{ theirs: []; mine: [] }>();
</script>

<template>
  <div class="border-l-[3px] border-caution py-1 pl-3" role="alert">
    <p>{{ text }}</p>
    <slot />
    <div class="mt-1 flex gap-2">
      <button type="button" class="button" @click="emit('theirs')">Take theirs</button>
      <button type="button" class="button" @click="emit('mine')">Keep mine in its place</button>
    </div>
  </div>
</template>
