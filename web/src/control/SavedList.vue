<script setup lang="ts">
/** What is saved for the works: used here, saved anew, replaced, renamed, put into the bin. */
import { Popover, PopoverButton, PopoverPanel } from "@headlessui/vue";
import { ref, useTemplateRef } from "vue";
import { plural } from "../lib/format";
import EditDialog from "../components/EditDialog.vue";
import { savedAs } from "../components/unreadable";
import type { SavedItem, UnreadableItem } from "./useSaved";

const props = defineProps<{
  what: string;
  items: SavedItem[];
  unreadable: UnreadableItem[];
  keep: (item: SavedItem, name: string, remark: string, force: boolean) => Promise<void>;
}>();
const emit = defineEmits<{
  use: [item: SavedItem];
  save: [name: string];
  replace: [item: SavedItem];
  forget: [item: { id: string }];
}>();

const name = ref("");
const entry = useTemplateRef<HTMLInputElement>("entry");
const editing = ref<InstanceType<typeof EditDialog>["$props"]["what"]>(null);

function save() {
  const text = name.value.trim();
  if (!text) return;
  emit("save", text);
  name.value = "";
  // The button that was pressed goes dead: who works by keys stays where the next name is typed.
  entry.value?.focus();
}

function edit(item: SavedItem) {
  editing.value = {
    title: `Saved ${props.what}`,
    nameLabel: "Name",
    texts: { name: item.name, remark: item.remark },
    keep: ({ name: text, remark }, force) => props.keep(item, text, remark, force),
  };
}
</script>

<template>
  <Popover class="relative">
    <PopoverButton class="button !py-[2px] text-[12.5px]">
      Saved {{ what }}s{{ items.length ? ` (${items.length})` : "" }} ▾
    </PopoverButton>
    <PopoverPanel
      v-slot="{ close }"
      class="absolute left-0 z-40 mt-1 w-[316px] rounded-[5px] border border-rule bg-raised px-3 py-2 shadow-lg"
    >
      <p class="mb-1 text-[12.5px] text-soft">Saved for the works: every loop can use them.</p>
      <ul v-if="items.length" class="mb-2 max-h-[220px] overflow-y-auto border-y border-rule">
        <li v-for="item in items" :key="item.id" class="border-b border-rule py-1 last:border-0">
          <button
            type="button"
            class="block w-full truncate text-left font-semibold hover:text-pv"
            :title="item.remark"
            @click="(emit('use', item), close())"
          >
            {{ item.name }}
          </button>
          <span class="flex gap-3 text-[12px] text-soft">
            <span class="min-w-0 flex-1 truncate">{{ item.made_in ? `from ${item.made_in}` : "" }}</span>
            <button
              type="button"
              class="hover:text-ink"
              :aria-label="`Replace ${item.name}`"
              @click="emit('replace', item)"
            >
              replace
            </button>
            <button
              type="button"
              class="hover:text-ink"
              :aria-label="`Rename ${item.name}`"
              @click="(edit(item), close())"
            >
              rename
            </button>
            <button
              type="button"
              class="hover:text-limit"
              :aria-label="`Delete ${item.name}`"
              @click="emit('forget', item)"
            >
              delete
            </button>
          </span>
        </li>
      </ul>
      <div v-if="unreadable.length" class="mb-2 text-[12.5px]">
        <p>
          <span class="font-semibold text-caution">△</span>
          {{ plural(unreadable.length, `saved ${what}`) }} cannot be read by this version; nothing of
          {{ unreadable.length === 1 ? "it" : "them" }} is lost.
        </p>
        <ul class="mt-1 max-h-[160px] overflow-y-auto border-y border-rule">
          <li v-for="one in unreadable" :key="one.id" class="border-b border-rule py-1 last:border-0">
            <strong class="block truncate font-semibold">{{ one.name }}</strong>
            <span class="block text-soft">{{ one.why }}</span>
            <span class="flex gap-3 text-[12px] text-soft">
              <a
                class="flex-1 hover:text-ink"
                :href="savedAs(one.document)"
                :download="`${one.name}.json`"
                :aria-label="`Save ${one.name} as it is`"
                >save as it is</a
              >
              <button
                type="button"
                class="hover:text-limit"
                :aria-label="`Delete ${one.name}`"
                @click="emit('forget', one)"
              >
                delete
              </button>
            </span>
          </li>
        </ul>
      </div>
      <form class="flex gap-2" @submit.prevent="save">
        <input
          ref="entry"
          v-model="name"
          class="entry min-w-0 flex-1"
          maxlength="80"
          :placeholder="`save this ${what} as …`"
          :aria-label="`Name to save this ${what} under`"
        />
        <button type="submit" class="button !py-[2px]" :disabled="!name.trim()">Save</button>
      </form>
    </PopoverPanel>
  </Popover>
  <EditDialog :what="editing" @close="editing = null" />
</template>
