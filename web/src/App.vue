<script setup lang="ts">
import KeyHelp from "./components/KeyHelp.vue";
</script>

<template>
  <RouterView />
  <KeyHelp />
</template>
