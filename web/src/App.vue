<script setup lang="ts">
import KeyHelp from "./components/KeyHelp.vue";
import NoteList from "./components/NoteList.vue";
import { useStructures } from "./lib/structures";

// Names of structures stand in the top line and in every list.
useStructures();
</script>

<template>
  <RouterView />
  <NoteList />
  <KeyHelp />
</template>
