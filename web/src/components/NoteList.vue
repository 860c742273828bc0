<script setup lang="ts">
/** Notes of what was done, at the foot of the page; and a line where the server does not answer. */
import { online } from "../lib/live";
import { dismiss, notes, type Note } from "../lib/notes";

function act(note: Note) {
  dismiss(note.id);
  void note.action?.act();
}
</script>

<template>
  <div class="pointer-events-none fixed inset-x-0 bottom-4 z-50 grid justify-items-center gap-2 print:hidden">
    <p
      v-if="!online"
      class="pointer-events-auto rounded-[5px] border border-caution bg-raised px-4 py-2 shadow-lg"
      role="status"
    >
      △ The server does not answer. It is asked again and again; what is shown is from before.
    </p>
    <div
      v-for="note in notes"
      :key="note.id"
      class="pointer-events-auto flex items-center gap-3 rounded-[5px] border border-rule bg-raised px-4 py-2 shadow-lg"
      role="status"
    >
      <span>{{ note.text }}</span>
      <button v-if="note.action" type="button" class="button !py-[2px]" @click="act(note)">
        {{ note.action.title }}
      </button>
      <button
        type="button"
        class="px-1 text-soft hover:text-ink"
        aria-label="Dismiss the note"
        @click="dismiss(note.id)"
      >
        ×
      </button>
    </div>
  </div>
</template>
