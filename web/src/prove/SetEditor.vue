<script setup lang="ts">
/** A proving set: what comes, and how much of each figure is borne. */
import { computed, ref } from "vue";
import { answered, api, messageOf, type Schemas, type TrialRow } from "../api/client";
import NumberField from "../components/NumberField.vue";
import { describe } from "../control/events";
import { duration, letter } from "../lib/format";
import { plain } from "../lib/plain";
import { freeName, type Criterion, type Disturbance, type Figure, type ProvingSet } from "./proof";
import { useWords } from "./useWords";

const props = defineProps<{
  set: ProvingSet;
  plant: Schemas["Plant"];
  trials: TrialRow[];
  description: Schemas["Description"] | null;
  /** Where the server refused something: `set.disturbances[2].criteria[0].most`. */
  refused?: string;
  problem?: string;
}>();
const emit = defineEmits<{ change: [edit: (set: ProvingSet) => void] }>();

const opened = ref<number | null>(null);
const from = ref("");
/** Place of the figure that is to be measured besides. */
const figure = ref<number | "">("");
const trouble = ref("");
const { toldOf, figures } = useWords(
  () => props.plant,
  () => props.set,
);
const unit = computed(() => props.plant.pv.span.unit);
const names = computed(() => props.set.disturbances.map((one) => one.name));

const refusedPlace = computed(() => {
  const found = /^set\.disturbances\[(\d+)\](?:\.criteria\[(\d+)\])?/.exec(props.refused ?? "");
  return found ? { d: Number(found[1]), c: found[2] === undefined ? null : Number(found[2]) } : null;
});
const shown = (index: number) => opened.value === index || refusedPlace.value?.d === index;

function edit(index: number, act: (one: Disturbance) => void) {
  emit("change", (set) => {
    const one = set.disturbances[index];
    if (one) act(one);
  });
}
function remove(index: number) {
  opened.value = null;
  emit("change", (set) => set.disturbances.splice(index, 1));
}
function again(index: number) {
  emit("change", (set) => {
    const one = set.disturbances[index];
    if (one) set.disturbances.splice(index + 1, 0, { ...plain(one), name: freeName(one.name, names.value) });
  });
  opened.value = index + 1;
}
async function takeScenario() {
  const row = props.trials.find((trial) => trial.id === from.value);
  if (!row) return;
  const name = freeName(`scenario of ${letter(row.number)}`, names.value);
  trouble.value = "";
  try {
    const body = { trial: plain(row.trial), name, reason: row.label };
    const made = await answered(api.POST("/api/v1/proofs/disturbance", { body }));
    emit("change", (set) => set.disturbances.push(made));
    opened.value = props.set.disturbances.length;
    from.value = "";
  } catch (error) {
    trouble.value = messageOf(error);
  }
}
function addFigure(index: number) {
  const offer = figures.value[Number(figure.value)];
  if (figure.value === "" || !offer) return;
  edit(index, (one) => one.criteria.push(plain(offer.criterion)));
  figure.value = "";
}
const limitsOf = (criteria: Criterion[]) => criteria.filter((own) => own.most != null).length;
/** Numbers that belong to a figure itself, with their names. */
function fieldsOf(of: Figure): { key: "band" | "low" | "high"; label: string }[] {
  if (of.kind === "recovery_time") return [{ key: "band", label: "half the band" }];
  if (of.kind === "time_outside" || of.kind === "area_outside")
    return [
      { key: "low", label: "below" },
      { key: "high", label: "above" },
    ];
  return [];
}
const numberOf = (of: Figure, key: string) => (of as unknown as Record<string, number | null>)[key] ?? null;
function setNumber(index: number, c: number, key: "band" | "low" | "high", value: number | null) {
  edit(index, (one) => {
    const own = one.criteria[c]?.figure;
    if (own?.kind === "recovery_time" && key === "band" && value !== null) own.band = value;
    else if ((own?.kind === "time_outside" || own?.kind === "area_outside") && key !== "band")
      own[key] = value;
  });
}
function setText(index: number, c: number, key: "balance" | "term", value: string) {
  edit(index, (one) => {
    const own = one.criteria[c]?.figure;
    if (own?.kind !== "used") return;
    own[key] = value;
    // A term is one of its balance.
    if (key === "balance") own.term = termsOf(value)[0] ?? "";
  });
}
const termsOf = (balance: string) =>
  props.description?.balances.find((known) => known.name === balance)?.terms.map((term) => term.name) ?? [];
const changesOf = (one: Disturbance) =>
  [
    one.changes?.noise != null && `noise ${one.changes.noise} ${unit.value}`,
    one.changes?.bias != null && `reads ${one.changes.bias} ${unit.value} beside`,
    one.changes?.drift != null && `drifts ${one.changes.drift} ${unit.value}/h`,
    one.changes?.dead_band != null && `lost motion ${one.changes.dead_band} %`,
    one.changes?.stick != null && `sticks ${one.changes.stick} %`,
  ].filter(Boolean);
const CHANGES = [
  { key: "noise", label: "Noise of the PV", min: 0 },
  { key: "bias", label: "Reads beside", min: -Infinity },
  { key: "drift", label: "Drifts", min: -Infinity },
  { key: "dead_band", label: "Lost motion of the valve", min: 0 },
  { key: "stick", label: "Valve sticks", min: 0 },
] as const;
const unitOfChange = (key: (typeof CHANGES)[number]["key"]) =>
  ({ noise: unit.value, bias: unit.value, drift: `${unit.value}/h`, dead_band: "%", stick: "%" })[key];
</script>

<template>
  <div>
    <p v-if="set.note" class="mb-2 border-l-[3px] border-rule pl-3 text-[12.5px] text-soft">{{ set.note }}</p>
    <ul class="border-t border-rule">
      <li v-for="(one, d) in set.disturbances" :key="one.name" class="border-b border-rule">
        <button
          type="button"
          class="flex w-full items-baseline gap-2 py-[3px] text-left hover:text-pv"
          :aria-expanded="shown(d)"
          @click="opened = shown(d) ? null : d"
        >
          <span aria-hidden="true" class="w-3 text-soft">{{ shown(d) ? "▾" : "▸" }}</span>
          <span class="min-w-0 flex-1 truncate" :title="one.reason">{{ one.name }}</span>
          <span class="text-[11.5px] text-soft">
            {{ limitsOf(one.criteria) || "no" }} limit{{ limitsOf(one.criteria) === 1 ? "" : "s" }}
          </span>
        </button>
        <div v-if="shown(d)" class="grid gap-2 pb-3 pl-5">
          <label class="grid gap-1">
            <span class="text-[12px] text-soft">Name</span>
            <input
              class="entry"
              maxlength="120"
              :value="one.name"
              @change="
                edit(d, (own) => (own.name = ($event.target as HTMLInputElement).value.trim() || own.name))
              "
            />
          </label>
          <p class="text-[12.5px] text-soft">
            {{
              [...(one.events ?? [])]
                .map((event) => `${duration(event.at)}: ${describe(event, unit, description)}`)
                .join("; ") || "nothing happens"
            }}{{
              Object.entries(one.further ?? {})
                .map(
                  ([name, events]) =>
                    `; ${name}: ${events.map((event) => describe(event, "", description)).join(", ")}`,
                )
                .join("")
            }}{{ changesOf(one).length ? `; ${changesOf(one).join(", ")}` : "" }}
          </p>
          <NumberField
            label="Looked at for"
            unit="s"
            :min="0"
            exclusive
            :model-value="one.duration"
            @update:model-value="(value) => value && edit(d, (own) => (own.duration = value))"
          />
          <details>
            <summary class="cursor-pointer text-[12.5px] text-soft">Faults of valve and sensor</summary>
            <div class="mt-1 grid gap-1">
              <NumberField
                v-for="field in CHANGES"
                :key="field.key"
                :label="field.label"
                :unit="unitOfChange(field.key)"
                :min="field.min"
                when-empty="as it is"
                :model-value="one.changes?.[field.key] ?? null"
                @update:model-value="
                  (value) =>
                    edit(d, (own) => {
                      own.changes = { ...own.changes, [field.key]: value ?? undefined };
                    })
                "
              />
            </div>
          </details>
          <div v-for="(own, c) in one.criteria" :key="c" class="grid gap-1 border-l-[3px] border-rule pl-2">
            <div class="flex items-end gap-1">
              <NumberField
                class="min-w-0 flex-1"
                :label="toldOf(own).title"
                :unit="toldOf(own).unit"
                hint="at most"
                when-empty="no limit"
                :min="0"
                :model-value="own.most ?? null"
                :problem="refusedPlace?.d === d && refusedPlace.c === c ? (problem ?? '') : ''"
                @update:model-value="(value) => edit(d, (it) => (it.criteria[c]!.most = value ?? undefined))"
              />
              <button
                type="button"
                class="px-1 text-soft hover:text-limit"
                :aria-label="`Leave out ${toldOf(own).title}`"
                @click="edit(d, (it) => it.criteria.splice(c, 1))"
              >
                ✕
              </button>
            </div>
            <NumberField
              v-for="field in fieldsOf(own.figure)"
              :key="field.key"
              :label="field.label"
              :unit="unit"
              when-empty="none"
              :model-value="numberOf(own.figure, field.key)"
              @update:model-value="(value) => setNumber(d, c, field.key, value)"
            />
            <div v-if="own.figure.kind === 'used'" class="flex gap-1">
              <select
                class="entry min-w-0 flex-1"
                aria-label="Balance"
                :value="own.figure.balance"
                @change="setText(d, c, 'balance', ($event.target as HTMLSelectElement).value)"
              >
                <option v-for="known in description?.balances ?? []" :key="known.name">
                  {{ known.name }}
                </option>
              </select>
              <select
                class="entry min-w-0 flex-1"
                aria-label="Term of the balance"
                :value="own.figure.term"
                @change="setText(d, c, 'term', ($event.target as HTMLSelectElement).value)"
              >
                <option v-for="term in termsOf(own.figure.balance)" :key="term">{{ term }}</option>
              </select>
            </div>
          </div>
          <p v-if="refusedPlace?.d === d && refusedPlace.c === null" class="text-limit" role="alert">
            {{ problem }}
          </p>
          <div class="flex flex-wrap gap-2">
            <select v-model="figure" class="entry min-w-0" aria-label="Figure to be measured besides">
              <option value="">measure besides …</option>
              <option v-for="(offer, k) in figures" :key="k" :value="k">{{ offer.title }}</option>
            </select>
            <button type="button" class="button !py-[2px]" :disabled="figure === ''" @click="addFigure(d)">
              Add
            </button>
          </div>
          <div class="flex gap-3 text-[12.5px] text-soft">
            <button type="button" class="hover:text-ink" @click="again(d)">once more</button>
            <button
              type="button"
              class="hover:text-limit"
              :disabled="set.disturbances.length < 2"
              :aria-label="`Leave out ${one.name}`"
              @click="remove(d)"
            >
              leave it out
            </button>
          </div>
        </div>
      </li>
    </ul>
    <p v-if="trouble" class="mt-2 text-limit" role="alert">{{ trouble }}</p>
    <form class="mt-2 flex gap-2" @submit.prevent="takeScenario">
      <select
        v-model="from"
        class="entry min-w-0 flex-1"
        aria-label="Trial whose scenario becomes a disturbance"
      >
        <option value="">the scenario of a trial …</option>
        <option v-for="row in trials" :key="row.id" :value="row.id">
          {{ letter(row.number) }}: {{ row.label }}
        </option>
      </select>
      <button type="submit" class="button !py-[2px]" :disabled="!from">Add it</button>
    </form>
  </div>
</template>
