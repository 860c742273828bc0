<script setup lang="ts">
/** The views of a place, one shown; digits of the page stay with the steps, so tabs are reached with Tab and arrow keys. */
const props = defineProps<{ views: { key: string; title: string }[]; modelValue: string; label: string }>();
const emit = defineEmits<{ "update:modelValue": [key: string] }>();

function pressed(event: KeyboardEvent) {
  const by = event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0;
  if (by === 0) return;
  event.preventDefault();
  const index = props.views.findIndex((view) => view.key === props.modelValue);
  const next = props.views[(index + by + props.views.length) % props.views.length];
  if (!next) return;
  emit("update:modelValue", next.key);
  const list = (event.currentTarget as HTMLElement).querySelectorAll<HTMLElement>("[role=tab]");
  list[(index + by + props.views.length) % props.views.length]?.focus();
}
</script>

<template>
  <div role="tablist" :aria-label="label" class="flex min-w-0 flex-wrap gap-x-[2px]" @keydown="pressed">
    <button
      v-for="view in views"
      :key="view.key"
      type="button"
      role="tab"
      :aria-selected="view.key === modelValue"
      :tabindex="view.key === modelValue ? 0 : -1"
      class="border-b-2 px-[6px] py-[3px]"
      :class="
        view.key === modelValue
          ? 'border-pv font-semibold'
          : 'border-transparent text-soft hover:border-rule hover:text-ink'
      "
      @click="emit('update:modelValue', view.key)"
    >
      {{ view.title }}
    </button>
  </div>
</template>
