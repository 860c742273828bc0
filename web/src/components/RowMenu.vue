<script setup lang="ts">
/** What can be done with a row of the trail; the menu stands free, so that nothing cuts it off. */
import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/vue";
import { ref } from "vue";

defineProps<{ name: string; actions: { title: string; act: () => unknown; danger?: boolean }[] }>();
const at = ref({ right: "0px", bottom: "0px" });

function place(event: Event) {
  const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
  at.value = { right: `${innerWidth - box.right}px`, bottom: `${innerHeight - box.top + 4}px` };
}
</script>

<template>
  <Menu as="span" class="relative inline-block print:hidden">
    <MenuButton
      class="rounded-[4px] px-2 text-soft hover:bg-wash hover:text-ink"
      :aria-label="`More for ${name}`"
      @click.stop="place"
      @keydown="place"
    >
      ⋯
    </MenuButton>
    <MenuItems
      class="fixed z-40 min-w-[150px] rounded-[5px] border border-rule bg-raised py-1 text-left shadow-lg"
      :style="at"
    >
      <MenuItem v-for="action in actions" :key="action.title" v-slot="{ active }">
        <button
          type="button"
          class="block w-full px-3 py-1 text-left"
          :class="[active ? 'bg-wash' : '', action.danger ? 'text-limit' : '']"
          @click.stop="action.act()"
        >
          {{ action.title }}
        </button>
      </MenuItem>
    </MenuItems>
  </Menu>
</template>
