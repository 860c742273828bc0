<script setup lang="ts">
/** Rows `name = right-hand side`, of rates, definitions or outputs, each with what is wrong about it. */
interface Row {
  name: string;
  equals: string;
  unit?: string;
}

defineProps<{
  title: string;
  /** What stands around the name: `d` and `/dt =`, or nothing and `=`. */
  around: [string, string];
  withUnit?: boolean;
  faults: (index: number) => string[];
}>();
const rows = defineModel<Row[]>({ required: true });

function add(withUnit: boolean) {
  rows.value = [...rows.value, withUnit ? { name: "", unit: "", equals: "" } : { name: "", equals: "" }];
}

function remove(index: number) {
  rows.value = rows.value.filter((_, k) => k !== index);
}
</script>

<template>
  <section class="mb-3">
    <h3 class="mb-1 flex items-baseline gap-2 font-semibold">
      {{ title }}
      <button type="button" class="button !px-2 !py-0 text-[12px]" @click="add(withUnit)">add</button>
    </h3>
    <div v-for="(row, index) in rows" :key="index" class="mb-1 flex flex-wrap items-center gap-1">
      <span v-if="around[0]" class="text-soft">{{ around[0] }}</span>
      <input
        v-model="row.name"
        class="entry w-[150px] font-mono"
        :aria-label="`Name in ${title}`"
        placeholder="name"
      />
      <template v-if="withUnit">
        <span class="text-soft">in</span>
        <input
          v-model="row.unit"
          class="entry w-[90px]"
          :aria-label="`Unit of ${row.name}`"
          placeholder="unit"
        />
      </template>
      <span class="text-soft">{{ around[1] }}</span>
      <input
        v-model="row.equals"
        class="entry min-w-0 flex-1 font-mono"
        spellcheck="false"
        :aria-label="`${title === 'Rates' ? 'Rate of' : title} ${row.name}`"
      />
      <button
        type="button"
        class="px-1 text-soft hover:text-limit"
        :aria-label="`Remove ${row.name} from ${title}`"
        @click="remove(index)"
      >
        ×
      </button>
      <span v-for="text in faults(index)" :key="text" class="w-full text-[12.5px] text-limit">{{
        text
      }}</span>
    </div>
  </section>
</template>
