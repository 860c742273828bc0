<script setup lang="ts">
/** A physical model to be: its process, which channel is which signal, what is known and what is sought. */
import { computed, reactive, ref } from "vue";
import type { RecordInfo, Schemas } from "../api/client";
import VerdictNote from "../components/VerdictNote.vue";
import { useOffers } from "../control/useDescription";
import EquationsDialog from "../control/EquationsDialog.vue";
import { duration, number, readNumber } from "../lib/format";
import type { Detailed, PhysicalDraft, SoughtRow } from "./usePhysical";

const props = defineProps<{
  physical: PhysicalDraft;
  record: RecordInfo | null;
  /** The fit as it would be asked for. */
  request: Schemas["IdentifyRequest"] | null;
}>();
const offers = useOffers();
const editing = ref(false);
const words = (name: string) => name.replaceAll("_", " ");

const KINDS: Record<string, string> = {
  heat: "Heat",
  tanks: "Tanks",
  reactors: "Reactors",
  mixing: "Mixing",
};
const groups = computed(() =>
  Object.entries(KINDS).map(([kind, title]) => ({
    title,
    offers: offers.value
      .map((offer, index) => ({ offer, index }))
      .filter(({ offer }) => offer.kind === kind && offer.process.structure === "library"),
  })),
);
const own = computed(() => offers.value.find((offer) => offer.process.structure === "equations"));
const current = computed(() => {
  const process = props.physical.options.value?.process;
  if (!process) return "";
  if (process.structure !== "library") return "own";
  return String(
    offers.value.findIndex(
      ({ process: one }) => one.structure === "library" && one.process === process.process,
    ),
  );
});

function choose(key: string) {
  if (!props.record) return;
  if (key === "own") editing.value = true;
  else {
    const offer = offers.value[Number(key)];
    if (offer) void props.physical.begin(props.record.id, offer.process as Detailed);
  }
}

function takeEquations(equations: Schemas["EquationsSpec"]) {
  editing.value = false;
  if (props.record)
    void props.physical.begin(props.record.id, { structure: "equations", ...equations } as Detailed);
}
const equations = computed<Schemas["EquationsSpec"] | null>(() => {
  const process = props.physical.options.value?.process;
  if (process?.structure === "equations") return process as unknown as Schemas["EquationsSpec"];
  return (own.value?.process as unknown as Schemas["EquationsSpec"]) ?? null;
});

const channels = computed(() => props.record?.channels.filter(({ role }) => role !== "sp") ?? []);
const inputOf = (name: string) => props.physical.options.value?.inputs.find((one) => one.input === name);
const outputOf = (name: string) => props.physical.options.value?.outputs.find((one) => one.output === name);

function mapInput(input: string, tag: string) {
  props.physical.mapInput(input, channels.value.find((one) => one.tag === tag) ?? null);
}

/** What was typed and is no number, by field: it is told, and what stood there stays. */
const wrong = reactive(new Map<string, string>());
function typed(key: string, title: string, text: string, take: (value: number | null) => void) {
  const value = text.trim() === "" ? null : readNumber(text);
  if (value !== null && !Number.isFinite(value)) {
    wrong.set(key, `“${text}” is no number: the ${title} stays as it was.`);
    return;
  }
  wrong.delete(key);
  take(value);
}
const rest = (input: string) =>
  props.physical.options.value?.rest?.[input] ??
  props.physical.description.value?.inputs.find((one) => one.name === input)?.value;
function setRest(input: string, value: number | null) {
  props.physical.change((options) => {
    const others = Object.entries(options.rest ?? {}).filter(([name]) => name !== input);
    options.rest = Object.fromEntries(value === null ? others : [...others, [input, value]]);
  });
}
function setRange(input: string, end: 0 | 1, value: number | null) {
  if (value === null) return;
  props.physical.change((options) => {
    const found = options.inputs.find((one) => one.input === input);
    if (found)
      found.range = (end ? [found.range?.[0] ?? 0, value] : [value, found.range?.[1] ?? 100]) as [
        number,
        number,
      ];
  });
}
function setStraight(input: string, straight: boolean) {
  props.physical.change((options) => {
    const found = options.inputs.find((one) => one.input === input);
    if (found) found.straight = straight;
  });
}

const moreNumbers = ref(false);
const rows = computed(() =>
  props.physical.rows.value.filter((row) => row.kind === "parameter" || row.place >= 0 || moreNumbers.value),
);
const soughtOf = (row: SoughtRow) => props.physical.options.value?.sought[row.place];
const expected = (row: SoughtRow) => {
  const prefix = row.kind === "parameter" ? "" : `${row.kind}_of_`;
  return props.physical.telling.value?.numbers.find((one) => one.name === prefix + row.name);
};
const ENDS = [
  ["value", "begins at"],
  ["low", "lowest"],
  ["high", "highest"],
  ["deviation", "known to ±"],
] as const;
/** Parameters that go with another one: the first of them is free to choose, the last one typed stays as it is. */
const ties = computed(() => props.physical.options.value?.tied ?? []);
const mayBeTied = computed(() =>
  parameters.value.filter(
    (one) =>
      !ties.value.some((tie) => tie.parameter === one.name || tie.to === one.name) &&
      !props.physical.options.value?.sought.some(
        (own) => (own.kind ?? "parameter") === "parameter" && own.name === one.name,
      ),
  ),
);
const mayLead = (tied: string) =>
  parameters.value.filter(
    (one) => one.name !== tied && !ties.value.some((tie) => tie.parameter === one.name),
  );
function tie(parameter: string) {
  const to = mayLead(parameter)[0]?.name;
  if (!parameter || !to) return;
  props.physical.change((options) => {
    options.tied = [...(options.tied ?? []), { parameter, to, factor: 1 }];
  });
}
function changeTie(place: number, change: (tie: Schemas["Tie"]) => void) {
  props.physical.change((options) => {
    const own = options.tied?.[place];
    if (own) change(own);
  });
}
function untie(place: number) {
  props.physical.change((options) => {
    options.tied = (options.tied ?? []).filter((_, k) => k !== place);
  });
}
const atRest = ref("");
const parameters = computed(() => props.physical.description.value?.parameters ?? []);

/** A name with its unit, where it has one. */
function named(name: string, unit: string): string {
  return unit ? `${name}, ${unit}` : name;
}
</script>

<template>
  <div class="grid gap-2 border-l-[3px] border-rule pl-3">
    <label class="grid grid-cols-[1fr_204px] items-center gap-2">
      Process
      <select
        class="entry"
        aria-label="Process of the physical model"
        :value="current"
        :disabled="!record"
        @change="choose(($event.target as HTMLSelectElement).value)"
      >
        <option value="" disabled>choose a balance …</option>
        <optgroup v-for="group in groups" :key="group.title" :label="group.title">
          <option v-for="{ offer, index } in group.offers" :key="index" :value="String(index)">
            {{ offer.title }}
          </option>
        </optgroup>
        <option v-if="own" value="own">Equations of your own …</option>
      </select>
    </label>
    <p v-if="physical.problem.value" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
      {{ physical.problem.value }}
    </p>
    <template v-if="physical.options.value && physical.description.value">
      <table class="w-full text-[13px]" aria-label="Channels of the signals">
        <thead class="text-[12px] text-soft">
          <tr>
            <th class="text-left font-normal">signal</th>
            <th class="text-left font-normal">shown by</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in physical.description.value.outputs" :key="`out ${one.name}`">
            <td class="pr-1" :title="one.text">
              {{ words(one.name) }} <span class="text-[12px] text-soft">{{ one.unit }}, output</span>
            </td>
            <td class="py-[2px]">
              <select
                class="entry w-[150px] !px-1"
                :aria-label="`Channel of the output ${words(one.name)}`"
                :value="outputOf(one.name)?.tag ?? ''"
                @change="physical.mapOutput(one.name, ($event.target as HTMLSelectElement).value || null)"
              >
                <option value="">not measured</option>
                <option v-for="channel in channels" :key="channel.tag" :value="channel.tag">
                  {{ channel.tag }}
                </option>
              </select>
            </td>
          </tr>
          <tr v-for="one in physical.description.value.inputs" :key="`in ${one.name}`" class="align-top">
            <td class="pt-[5px] pr-1" :title="one.text">
              {{ words(one.name) }} <span class="text-[12px] text-soft">{{ one.unit }}</span>
            </td>
            <td class="py-[2px]">
              <select
                class="entry w-[150px] !px-1"
                :aria-label="`Channel of ${words(one.name)}`"
                :value="inputOf(one.name)?.tag ?? ''"
                @change="mapInput(one.name, ($event.target as HTMLSelectElement).value)"
              >
                <option value="">stands at</option>
                <option v-for="channel in channels" :key="channel.tag" :value="channel.tag">
                  {{ channel.tag }}
                </option>
              </select>
              <input
                v-if="!inputOf(one.name)"
                class="entry ml-1 w-[58px] text-right"
                inputmode="decimal"
                :aria-label="named(`Value of ${words(one.name)}`, one.unit)"
                :value="rest(one.name)"
                @change="
                  typed(
                    `rest ${one.name}`,
                    words(one.name),
                    ($event.target as HTMLInputElement).value,
                    (value) => setRest(one.name, value),
                  )
                "
              />
              <span
                v-if="inputOf(one.name)?.range"
                class="mt-[2px] flex items-center gap-1 text-[12px] text-soft"
              >
                0 %
                <input
                  v-for="end in [0, 1] as const"
                  :key="end"
                  class="entry w-[52px] text-right"
                  inputmode="decimal"
                  :class="end ? 'order-3' : ''"
                  :aria-label="named(`${words(one.name)} at ${end ? 100 : 0} %`, one.unit)"
                  :value="inputOf(one.name)?.range?.[end]"
                  @change="
                    typed(
                      `range ${one.name} ${end}`,
                      words(one.name),
                      ($event.target as HTMLInputElement).value,
                      (value) => setRange(one.name, end, value),
                    )
                  "
                />
                <span class="order-2">100 %</span>
              </span>
              <label
                v-if="inputOf(one.name) && !inputOf(one.name)?.range"
                class="flex items-center gap-1 text-[12px] text-soft"
              >
                <input
                  type="checkbox"
                  :checked="inputOf(one.name)?.straight ?? false"
                  @change="setStraight(one.name, ($event.target as HTMLInputElement).checked)"
                />
                runs straight between samples
              </label>
            </td>
          </tr>
        </tbody>
      </table>
      <table class="w-full text-[13px]" aria-label="Numbers known and sought">
        <thead class="text-[12px] text-soft">
          <tr>
            <th class="text-left font-normal">sought</th>
            <th class="text-right font-normal">known as</th>
            <th></th>
          </tr>
        </thead>
        <tbody v-for="row in rows" :key="`${row.kind} ${row.name}`">
          <tr>
            <td>
              <label class="flex items-center gap-2">
                <input
                  type="checkbox"
                  :checked="row.place >= 0"
                  :aria-label="`Seek the ${row.title}`"
                  @change="physical.seek(row, ($event.target as HTMLInputElement).checked)"
                />
                {{ row.title }}
              </label>
            </td>
            <td class="py-[2px] text-right">
              <input
                v-if="row.place < 0"
                class="entry w-[74px] text-right"
                inputmode="decimal"
                :aria-label="named(row.title, row.unit)"
                :value="row.known ?? ''"
                :placeholder="row.known === null ? 'straight' : ''"
                @change="
                  typed(row.title, row.title, ($event.target as HTMLInputElement).value, (value) =>
                    physical.set(row, 'value', value),
                  )
                "
              />
              <span v-else-if="expected(row)" class="text-[12px] text-soft">
                {{
                  expected(row)?.standard_error == null
                    ? "not told"
                    : `to ± ${number(expected(row)?.standard_error, 2)}`
                }}
              </span>
            </td>
            <td class="pl-1 text-[12px] text-soft">{{ row.unit }}</td>
          </tr>
          <tr v-if="row.place >= 0">
            <td colspan="3" class="pb-1">
              <span class="grid grid-cols-4 gap-1 pl-5">
                <label v-for="[key, title] in ENDS" :key="key" class="text-[11.5px] text-soft">
                  {{ title }}
                  <input
                    class="entry w-full text-right"
                    inputmode="decimal"
                    :aria-label="`${row.title} ${title}`"
                    :placeholder="key === 'value' && row.known !== null ? number(row.known) : ''"
                    :value="soughtOf(row)?.[key] ?? ''"
                    @change="
                      typed(
                        `${row.title} ${key}`,
                        row.title,
                        ($event.target as HTMLInputElement).value,
                        (value) => physical.set(row, key, value),
                      )
                    "
                  />
                </label>
              </span>
            </td>
          </tr>
        </tbody>
      </table>
      <button
        v-if="!moreNumbers"
        type="button"
        class="text-left text-[12.5px] text-soft underline decoration-rule underline-offset-2 hover:text-ink"
        @click="moreNumbers = true"
      >
        dead times, valves, sensor lags, offsets, what goes with what, beginnings of the search …
      </button>
      <div v-if="moreNumbers || ties.length" class="grid gap-1">
        <div v-for="(tied, k) in ties" :key="tied.parameter" class="flex flex-wrap items-center gap-1">
          <span class="w-full">{{ words(tied.parameter) }} =</span>
          <input
            class="entry w-[58px] text-right"
            inputmode="decimal"
            :aria-label="`${words(tied.parameter)}, factor`"
            :value="tied.factor"
            @change="
              typed(`tie ${tied.parameter}`, 'factor', ($event.target as HTMLInputElement).value, (value) => {
                if (value !== null) changeTie(k, (tie) => (tie.factor = value));
              })
            "
          />
          ×
          <select
            class="entry w-[130px] !px-1"
            :aria-label="`${words(tied.parameter)} goes with`"
            :value="tied.to"
            @change="changeTie(k, (tie) => (tie.to = ($event.target as HTMLSelectElement).value))"
          >
            <option v-for="one in mayLead(tied.parameter)" :key="one.name" :value="one.name">
              {{ words(one.name) }}
            </option>
          </select>
          <button
            type="button"
            class="button ml-auto"
            :aria-label="`Free ${words(tied.parameter)}`"
            @click="untie(k)"
          >
            free
          </button>
        </div>
        <select
          class="entry w-[204px]"
          aria-label="A parameter that goes with another"
          :value="''"
          @change="tie(($event.target as HTMLSelectElement).value)"
        >
          <option value="">goes with another …</option>
          <option v-for="one in mayBeTied" :key="one.name" :value="one.name">{{ words(one.name) }}</option>
        </select>
        <label class="flex items-center gap-2">
          beginnings of the search
          <input
            class="entry w-[58px] text-right"
            inputmode="numeric"
            aria-label="Beginnings of the search"
            :value="physical.options.value.beginnings ?? 6"
            @change="
              typed(
                'beginnings',
                'number of beginnings',
                ($event.target as HTMLInputElement).value,
                (value) => {
                  if (value !== null)
                    physical.change((options) => (options.beginnings = Math.max(1, Math.round(value))));
                },
              )
            "
          />
        </label>
      </div>
      <p v-for="text in wrong.values()" :key="text" class="text-[12.5px] text-limit" role="alert">
        {{ text }}
      </p>
      <label class="flex items-center gap-2">
        <input
          type="checkbox"
          :checked="physical.options.value.start === 'known'"
          @change="
            physical.change(
              (options) =>
                (options.start = ($event.target as HTMLInputElement).checked ? 'known' : 'estimated'),
            )
          "
        />
        begins with the states of the process, as a batch does
      </label>
      <div class="flex flex-wrap items-center gap-2">
        <button
          type="button"
          class="button"
          :disabled="!request || physical.busy.value || physical.options.value.sought.length === 0"
          @click="request && physical.tell(request)"
        >
          What can be told
        </button>
        <select
          v-model="atRest"
          class="entry w-[150px]"
          aria-label="Check a parameter at rest"
          :disabled="!request || physical.busy.value || physical.options.value.sought.length === 0"
          @change="request && atRest && physical.checkAtRest(request, atRest)"
        >
          <option value="">check at rest …</option>
          <option v-for="one in parameters" :key="one.name" :value="one.name">{{ words(one.name) }}</option>
        </select>
      </div>
      <template v-if="physical.telling.value">
        <VerdictNote
          v-for="verdict in physical.telling.value.verdicts"
          :key="verdict.text"
          :verdict="verdict"
        />
      </template>
      <template v-if="physical.steady.value">
        <VerdictNote :verdict="physical.steady.value.verdict" />
        <table v-if="physical.steady.value.stretches.length" class="w-full text-[12.5px]">
          <tbody>
            <tr v-for="one in physical.steady.value.stretches" :key="one.from">
              <td class="text-soft">{{ duration(one.from) }} to {{ duration(one.to) }}</td>
              <td class="text-right">
                <template v-if="one.implied">
                  {{ number(one.implied.value) }} ± {{ number(one.implied.standard_error, 2) }}
                  {{ physical.steady.value.unit }}
                </template>
                <span v-else class="text-soft">no value explains it</span>
              </td>
            </tr>
          </tbody>
        </table>
      </template>
    </template>
    <EquationsDialog
      v-if="equations"
      :open="editing"
      :equations="equations"
      @close="editing = false"
      @take="takeEquations"
    />
  </div>
</template>
