<script setup lang="ts">
/** What is wrong, in a sentence. */
defineProps<{ text: string }>();
</script>

<template>
  <p v-if="text" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ text }}</p>
</template>
