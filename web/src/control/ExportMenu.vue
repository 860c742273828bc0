<script setup lang="ts">
/** A trial leaves as a document, its trace as a table, its picture. */
import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/vue";
import { messageOf } from "../api/client";
import type { Mark, Panel } from "../lib/strip";
import { plotsSvg, pngOf, saveFile, stripSvg } from "../lib/stripPicture";

const props = defineProps<{
  trialId: string | null;
  panels: Panel[];
  marks: Mark[];
  title: string;
  /** What the picture is called without its ending. */
  fileName: string;
  /** The view that is open, where it is no strip: its plots become the picture. */
  view?: HTMLElement | null;
}>();
const emit = defineEmits<{ failed: [message: string] }>();

const files: [string, string][] = [
  ["json", "Trial as JSON"],
  ["csv", "Trace as CSV"],
  ["xlsx", "Trace as XLSX"],
  ["parquet", "Trace as Parquet"],
];

async function picture(form: "svg" | "png") {
  try {
    const plots = props.view ? [...props.view.querySelectorAll("svg[role=img], .xy-plot svg")] : [];
    const svg = plots.length
      ? plotsSvg(plots as SVGSVGElement[], props.title)
      : stripSvg(props.panels, props.marks, props.title);
    const blob = form === "svg" ? new Blob([svg], { type: "image/svg+xml" }) : await pngOf(svg);
    saveFile(props.fileName, form, blob);
  } catch (error) {
    emit("failed", messageOf(error));
  }
}
</script>

<template>
  <Menu as="div" class="relative shrink-0">
    <MenuButton class="button !py-[2px] whitespace-nowrap">Export ▾</MenuButton>
    <MenuItems
      class="absolute right-0 z-40 mt-1 w-[180px] rounded-[5px] border border-rule bg-raised py-1 shadow-lg"
    >
      <MenuItem v-for="[form, text] in files" :key="form" v-slot="{ active }" :disabled="!trialId">
        <a
          class="block px-3 py-1"
          :class="[active ? 'bg-wash' : '', trialId ? '' : 'text-soft']"
          :href="trialId ? `/api/v1/trials/${trialId}/export?format=${form}` : undefined"
          download
          >{{ text }}</a
        >
      </MenuItem>
      <MenuItem v-for="form in ['svg', 'png'] as const" :key="form" v-slot="{ active }">
        <button
          type="button"
          class="block w-full px-3 py-1 text-left"
          :class="active ? 'bg-wash' : ''"
          @click="picture(form)"
        >
          Picture as {{ form.toUpperCase() }}
        </button>
      </MenuItem>
    </MenuItems>
  </Menu>
</template>
