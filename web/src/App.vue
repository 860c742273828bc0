<script setup lang="ts">
import KeyHelp from "./components/KeyHelp.vue";
import NoteList from "./components/NoteList.vue";
</script>

<template>
  <RouterView />
  <NoteList />
  <KeyHelp />
</template>
