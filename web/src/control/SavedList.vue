<script setup lang="ts">
/** What is saved with the loop under a name: taken up again, saved, forgotten. */
import { ref } from "vue";

const props = defineProps<{ what: string; names: string[] }>();
const emit = defineEmits<{ use: [name: string]; save: [name: string]; forget: [name: string] }>();

const name = ref("");
const saving = ref(false);

function chosen(event: Event) {
  const select = event.target as HTMLSelectElement;
  if (select.value) {
    name.value = select.value;
    emit("use", select.value);
  }
}

function save() {
  const trimmed = name.value.trim();
  if (!trimmed) return;
  emit("save", trimmed);
  saving.value = false;
}
</script>

<template>
  <div class="flex flex-wrap items-center gap-2">
    <select
      class="entry min-w-0 flex-1"
      :aria-label="`Saved ${what}s`"
      :value="props.names.includes(name) ? name : ''"
      @change="chosen"
    >
      <option value="">{{ names.length ? `saved ${what}s …` : `no saved ${what} yet` }}</option>
      <option v-for="known in names" :key="known" :value="known">{{ known }}</option>
    </select>
    <button type="button" class="button !py-[2px]" @click="saving = !saving">Save {{ what }} …</button>
    <form v-if="saving" class="flex w-full items-center gap-2" @submit.prevent="save">
      <input
        v-model="name"
        class="entry min-w-0 flex-1"
        maxlength="80"
        :aria-label="`Name of the ${what}`"
        placeholder="name"
      />
      <button type="submit" class="button button-main !py-[2px]" :disabled="!name.trim()">
        {{ names.includes(name.trim()) ? "Replace" : "Save" }}
      </button>
      <button
        v-if="names.includes(name.trim())"
        type="button"
        class="button !py-[2px]"
        @click="
          emit('forget', name.trim());
          saving = false;
        "
      >
        Forget
      </button>
    </form>
  </div>
</template>
