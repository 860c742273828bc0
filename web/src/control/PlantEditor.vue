<script setup lang="ts">
/** The plant: its process with parameters and inputs, what is driven and measured, where it starts, actuator and sensor. */
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/vue";
import { computed, ref } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import FieldList from "../components/FieldList.vue";
import { whenGiven, type Field } from "../lib/field";
import { number } from "../lib/format";
import { tell } from "../lib/notes";
import EquationsDialog from "./EquationsDialog.vue";
import { choicesOf, readable } from "./events";
import InstrumentEditor from "./InstrumentEditor.vue";
import FurtherSignals from "./FurtherSignals.vue";
import SavedList from "./SavedList.vue";
import SpecDialog from "./SpecDialog.vue";
import { useOffers } from "./useDescription";
import { useSaved, type SavedItem } from "./useSaved";

type Process = Trial["plant"]["process"];
type Quantity = Schemas["Quantity"];

const props = defineProps<{
  trial: Trial;
  description: Schemas["Description"] | null;
  /** The OP at which the plant rests. */
  restingOp: number | null;
}>();
const emit = defineEmits<{
  change: [edit: (trial: Trial) => void, name?: string];
  /** Another plant: settings and scenario follow it. */
  replace: [plant: Trial["plant"], name: string];
  settled: [];
}>();
const offers = useOffers();
const problem = ref("");
const editing = ref(false);

const plant = computed(() => props.trial.plant);
const process = computed(() => plant.value.process);

/** Whether there is more than one signal to measure or to drive. */
const isWide = computed(
  () => (props.description?.outputs.length ?? 0) > 1 || (props.description?.inputs.length ?? 0) > 1,
);
const furtherTags = computed(() =>
  [
    ...(plant.value.further_measured ?? []),
    ...(plant.value.further_driven ?? []),
    ...(plant.value.measured_disturbances ?? []),
  ]
    .map((signal) => signal.tag)
    .join(", "),
);

const KINDS: Record<string, string> = {
  linear: "Linear",
  tanks: "Tanks",
  heat: "Heat",
  reactors: "Reactors",
  mixing: "Mixing",
  own: "Your own",
};
const groups = computed(() =>
  Object.entries(KINDS).map(([kind, title]) => ({
    title,
    offers: offers.value.map((offer, index) => ({ offer, index })).filter(({ offer }) => offer.kind === kind),
  })),
);

/** Whether two processes are the same but for their numbers. */
function isSame(a: Process, b: Process): boolean {
  if (a.structure !== b.structure) return false;
  return a.structure !== "library" || b.structure !== "library" || a.process === b.process;
}
const current = computed(() => offers.value.findIndex((offer) => isSame(offer.process, process.value)));

async function choose(index: number) {
  const offer = offers.value[index];
  if (!offer) return;
  try {
    const tag = plant.value.pv.tag.replace(/\.PV$/, "");
    const usual = await answered(api.POST("/api/v1/plants/usual", { body: { process: offer.process, tag } }));
    emit("replace", usual, offer.title.toLowerCase());
    problem.value = "";
    if (offer.process.structure === "equations") editing.value = true;
  } catch (error) {
    problem.value = messageOf(error);
  }
}

// --- numbers ---

function fieldOf(
  quantity: Quantity,
  value: number,
  set: (value: number) => void,
  hint = quantity.text,
): Field {
  const bounded = (limit: number) => (Math.abs(limit) < 1e9 ? limit : undefined);
  return {
    key: quantity.name,
    label: readable(quantity.name),
    unit: quantity.unit,
    hint,
    min: quantity.low > 0 && quantity.low < 1e-9 ? 0 : bounded(quantity.low),
    exclusive: quantity.low > 0 && quantity.low < 1e-9,
    max: bounded(quantity.high),
    value,
    set: whenGiven(set),
  };
}

const parameters = computed<Field[]>(() => {
  const spec = process.value;
  return (props.description?.parameters ?? []).map((quantity) => {
    const { name } = quantity;
    const set = (value: number) =>
      emit("change", (trial) => {
        const next = trial.plant.process;
        if (next.structure === "library") next.parameters = { ...next.parameters, [name]: value };
        else if (next.structure === "equations") {
          const known = next.parameters?.find((parameter) => parameter.name === name);
          if (known) known.value = value;
        } else if (name in next) Object.assign(next, { [name]: value });
      });
    const given = spec.structure === "library" ? (spec.parameters?.[name] ?? quantity.value) : quantity.value;
    return fieldOf(quantity, given, set);
  });
});

const driven = computed(() => plant.value.drive?.input ?? props.description?.drive.input ?? "");
const drive = computed(
  () => plant.value.drive ?? props.description?.drive ?? { input: "", at_0: 0, at_100: 100 },
);
const inputs = computed<Field[]>(() =>
  (props.description?.inputs ?? [])
    .filter((quantity) => quantity.name !== driven.value)
    .map((quantity) =>
      fieldOf(quantity, plant.value.inputs?.[quantity.name] ?? quantity.value, (value) =>
        emit("change", (trial) => (trial.plant.inputs = { ...trial.plant.inputs, [quantity.name]: value })),
      ),
    ),
);

const drivenUnit = computed(
  () => props.description?.inputs.find((input) => input.name === driven.value)?.unit ?? "",
);
const driveFields = computed<Field[]>(() =>
  (["at_0", "at_100"] as const).map((end) => ({
    key: end,
    label: end === "at_0" ? "At 0 % of OP" : "At 100 % of OP",
    unit: drivenUnit.value,
    value: drive.value[end],
    set: whenGiven((value) =>
      emit("change", (trial) => {
        const { input, at_0, at_100 } = drive.value;
        trial.plant.drive = { input, at_0, at_100, [end]: value };
      }),
    ),
  })),
);

function chooseDriven(name: string) {
  const quantity = props.description?.inputs.find((input) => input.name === name);
  const usual = props.description?.drive;
  if (!quantity) return;
  emit("change", (trial) => {
    trial.plant.drive =
      usual?.input === name
        ? null
        : { input: name, at_0: Math.max(quantity.low, 0), at_100: 2 * (quantity.value || 50) };
  });
}

function measure(name: string) {
  const output = props.description?.outputs.find((known) => known.name === name);
  if (!output) return;
  emit("change", (trial) => {
    trial.plant.measured = name;
    trial.plant.pv.span.unit = output.unit;
  });
}

const start = computed<Field[]>(() => {
  const { operating_point: point, pv } = plant.value;
  const set = (edit: (trial: Trial) => void) => emit("change", edit);
  return [
    {
      key: "pv",
      label: point.states ? "Set point at the start" : "Rests at a PV of",
      unit: pv.span.unit,
      value: point.pv,
      set: whenGiven((value) => set((trial) => (trial.plant.operating_point.pv = value))),
    },
    {
      key: "op",
      label: point.states ? "OP at the start" : "OP there, about",
      unit: "%",
      hint: props.restingOp === null || point.states ? "" : `found: ${number(props.restingOp, 4)} %`,
      value: point.op,
      set: whenGiven((value) => set((trial) => (trial.plant.operating_point.op = value))),
    },
    ...(["low", "high"] as const).map((end) => ({
      key: end,
      label: end === "low" ? "Low end of the PV span" : "High end of the PV span",
      unit: pv.span.unit,
      value: pv.span[end],
      set: whenGiven((value) => set((trial) => (trial.plant.pv.span[end] = value))),
    })),
  ];
});

const states = computed<Field[]>(() => {
  const given = plant.value.operating_point.states;
  if (!given) return [];
  return (props.description?.states ?? []).map((quantity) =>
    fieldOf(quantity, given[quantity.name] ?? quantity.value, (value) =>
      emit(
        "change",
        (trial) =>
          (trial.plant.operating_point.states = {
            ...trial.plant.operating_point.states,
            [quantity.name]: value,
          }),
      ),
    ),
  );
});

const isLinear = computed(() => !["library", "equations"].includes(process.value.structure));

const sensorSummary = computed(() => {
  const { noise, time_constant: lag, dead_time: late, filter } = plant.value.sensor ?? {};
  const parts = [
    noise ? `noise ${number(noise)} ${plant.value.pv.span.unit}` : "",
    lag ? `lag ${number(lag)} s` : "",
    late ? `dead time ${number(late)} s` : "",
    filter ? `filter ${number(filter)} s` : "",
  ].filter(Boolean);
  return parts.join(" · ") || "perfect";
});

const { saved, unreadable, trouble, save, change: keepSaved, forget, specOf } = useSaved("plant");

/** Takes another process of the same kind. Where the measured output has a new unit, the span of the PV takes it. */
function takeProcess(next: Process) {
  const unitOf = (process: Process) => {
    const outputs = "outputs" in process ? process.outputs : [];
    return (outputs.find((output) => output.name === plant.value.measured) ?? outputs[0])?.unit ?? "";
  };
  const [was, is] = [unitOf(process.value), unitOf(next)];
  emit("change", (trial) => {
    trial.plant.process = next;
    if (is !== was && is !== "") trial.plant.pv.span.unit = is;
  });
  if (is !== was && is !== "" && is !== plant.value.pv.span.unit)
    tell(`The span of ${plant.value.pv.tag} is in ${is} now: look at its ends.`);
}

function use(item: SavedItem) {
  emit("change", (trial) => (trial.plant = specOf(item)), `plant ${item.name}`);
}
</script>

<template>
  <div class="grid grid-cols-1 gap-[6px]">
    <SavedList
      what="plant"
      :items="saved"
      :unreadable="unreadable"
      :keep="(item, name, remark, force) => keepSaved(item, name, remark, null, force)"
      @use="use"
      @save="save($event, plant)"
      @replace="keepSaved($event, $event.name, $event.remark, plant)"
      @forget="forget"
    />
    <label class="min-w-0">
      <span class="sr-only">Process</span>
      <select
        class="entry w-full min-w-0 font-semibold"
        aria-label="Process"
        :value="current"
        @change="choose(Number(($event.target as HTMLSelectElement).value))"
      >
        <optgroup v-for="group in groups" :key="group.title" :label="group.title">
          <option v-for="{ offer, index } in group.offers" :key="index" :value="index">
            {{ offer.title }}
          </option>
        </optgroup>
      </select>
    </label>
    <p v-if="problem || trouble" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
      {{ problem || trouble }}
    </p>
    <template v-if="process.structure === 'equations'">
      <ul class="border-l-[3px] border-rule pl-3 font-mono text-[12.5px]">
        <li v-for="rate in process.rates" :key="rate.name">d{{ rate.name }}/dt = {{ rate.equals }}</li>
      </ul>
      <button type="button" class="button justify-self-start" @click="editing = true">
        Edit the equations …
      </button>
      <EquationsDialog
        :open="editing"
        :equations="process"
        @close="editing = false"
        @take="
          (equations) => {
            editing = false;
            takeProcess({ structure: 'equations', ...equations });
          }
        "
      />
    </template>
    <template v-if="process.structure === 'state_space' || process.structure === 'transfer_functions'">
      <button type="button" class="button justify-self-start" @click="editing = true">
        Edit {{ process.structure === "state_space" ? "the matrices" : "the transfer functions" }} …
      </button>
      <SpecDialog
        :open="editing"
        :process="process"
        :pv-unit="plant.pv.span.unit"
        @close="editing = false"
        @take="
          (spec) => {
            editing = false;
            takeProcess(spec);
          }
        "
      />
    </template>
    <FieldList :fields="parameters" @settled="emit('settled')" />
    <Disclosure v-if="inputs.length" v-slot="{ open }">
      <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
        <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Other inputs:
        {{ inputs.map((field) => `${field.label} ${number(field.value)} ${field.unit}`).join(" · ") }}
      </DisclosureButton>
      <DisclosurePanel class="grid gap-[6px] pb-1"
        ><FieldList :fields="inputs" @settled="emit('settled')"
      /></DisclosurePanel>
    </Disclosure>
    <Disclosure v-slot="{ open }">
      <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
        <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Loop and start: {{ readable(driven) }}
        {{ number(drive.at_0) }} to {{ number(drive.at_100) }} {{ drivenUnit }} ·
        {{
          plant.operating_point.states
            ? "starts from its states"
            : `rests at ${number(plant.operating_point.pv, 4)} ${plant.pv.span.unit}`
        }}
      </DisclosureButton>
      <DisclosurePanel class="grid gap-[6px] pb-1">
        <ChoiceField
          label="The OP drives"
          :model-value="driven"
          :choices="choicesOf(description?.inputs ?? [])"
          @update:model-value="chooseDriven"
        />
        <FieldList :fields="driveFields" @settled="emit('settled')" />
        <ChoiceField
          label="The PV is"
          :model-value="plant.measured ?? description?.outputs[0]?.name ?? ''"
          :choices="choicesOf(description?.outputs ?? [])"
          @update:model-value="measure"
        />
        <FieldList :fields="start" @settled="emit('settled')" />
        <label v-if="!isLinear" class="flex items-center gap-2">
          <input
            type="checkbox"
            :checked="!!plant.operating_point.states"
            @change="
              emit(
                'change',
                (next) =>
                  (next.plant.operating_point.states = ($event.target as HTMLInputElement).checked
                    ? {}
                    : null),
              )
            "
          />
          start from given states, not at rest
        </label>
        <FieldList :fields="states" @settled="emit('settled')" />
      </DisclosurePanel>
    </Disclosure>
    <Disclosure v-if="isWide" v-slot="{ open }">
      <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
        <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Further signals: {{ furtherTags || "none" }}
      </DisclosureButton>
      <DisclosurePanel class="grid gap-[6px] pb-1">
        <FurtherSignals
          :trial="trial"
          :description="description"
          @change="(edit, name) => emit('change', edit, name)"
          @settled="emit('settled')"
        />
      </DisclosurePanel>
    </Disclosure>
    <Disclosure v-slot="{ open }">
      <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
        <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Actuator:
        {{ { direct: "none", valve: "valve", power_stage: "power stage" }[plant.actuator?.kind ?? "direct"] }}
      </DisclosureButton>
      <DisclosurePanel class="grid gap-[6px] pb-1">
        <InstrumentEditor
          part="actuator"
          :trial="trial"
          @change="(edit) => emit('change', edit)"
          @settled="emit('settled')"
        />
      </DisclosurePanel>
    </Disclosure>
    <Disclosure v-slot="{ open }">
      <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
        <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Sensor: {{ sensorSummary }}
      </DisclosureButton>
      <DisclosurePanel class="grid gap-[6px] pb-1">
        <InstrumentEditor
          part="sensor"
          :trial="trial"
          @change="(edit) => emit('change', edit)"
          @settled="emit('settled')"
        />
      </DisclosurePanel>
    </Disclosure>
  </div>
</template>
