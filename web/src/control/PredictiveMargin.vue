<script setup lang="ts">
/** What can be set of a predictive controller: how far it looks, what it controls and how soon, what it moves and how calmly. */
import { computed, ref } from "vue";
import CheckField from "../components/CheckField.vue";
import ChoiceField from "../components/ChoiceField.vue";
import FieldList from "../components/FieldList.vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import { rangeOf, whenGiven, type Field } from "../lib/field";
import { plain } from "../lib/plain";
import { readable } from "./events";
import { allLimits, spanOf } from "./limits";
import { movesIn, movesOf, type Predictive } from "./predictive";

const props = defineProps<{
  trial: Trial;
  settings: Predictive;
  description: Schemas["Description"] | null;
}>();
const emit = defineEmits<{ change: [edit: (settings: Predictive) => void]; settled: []; again: [] }>();

type Cv = Schemas["ControlledVariable"];
type Mv = Schemas["ManipulatedVariable"];

function editCv(k: number, edit: (cv: Cv) => void) {
  emit("change", (settings) => settings.cvs[k] && edit(settings.cvs[k]));
}

/** What follows no set point knows none beforehand. */
function follow(k: number, value: boolean) {
  editCv(k, (own) => {
    own.follows_set_point = value;
    if (!value) own.set_point_known_ahead = undefined;
  });
}

function editDv(k: number, edit: (dv: Schemas["MeasuredDisturbance"]) => void) {
  emit("change", (settings) => settings.dvs?.[k] && edit(settings.dvs[k]));
}

function editMv(k: number, edit: (mv: Mv) => void) {
  emit("change", (settings) => settings.mvs[k] && edit(settings.mvs[k]));
}

const general = computed<Field[]>(() => [
  {
    key: "horizon",
    label: "Looks ahead",
    unit: "s",
    byRatio: true,
    value: props.settings.horizon,
    set: whenGiven((value) => emit("change", (settings) => (settings.horizon = value))),
    ...rangeOf("PredictiveSettings", "horizon"),
  },
]);

type Band = Schemas["Band"];

/** A limit of a CV with its rank, among its first ones or in a band of its own: an empty value takes it away. */
function limitFields(cv: Cv, k: number, side: Schemas["Side"], band?: number): Field[] {
  const limit = (band === undefined ? cv : cv.bands?.[band])?.[side];
  const name = side === "low" ? "Not below" : "Not above";
  const place = `cvs[${k}].${band === undefined ? "" : `bands[${band}].`}${side}`;
  const change = (to: Band["low"]) =>
    editCv(k, (own) => {
      const ends = band === undefined ? own : own.bands?.[band];
      if (ends) ends[side] = to;
    });
  const value: Field = {
    key: `${place}.value`,
    label: name,
    unit: spanOf(props.trial, cv.tag).unit,
    value: limit?.value ?? null,
    whenEmpty: "no limit",
    set: (to) => change(to === null ? undefined : { rank: freeRank(cv, side), ...limit, value: to }),
  };
  if (!limit) return [value];
  return [
    value,
    {
      key: `${place}.rank`,
      label: `${name}: rank`,
      unit: "",
      hint: "1 is given up last",
      value: limit.rank,
      set: whenGiven((to) => change({ ...limit, rank: Math.round(to) })),
      ...rangeOf("RankedLimit", "rank"),
    },
  ];
}

/** The first rank that no limit of a CV on that side has. */
function freeRank(cv: Cv, side: Schemas["Side"]): number {
  const taken = allLimits(cv).flatMap((one) => (one.side === side ? [one.limit.rank] : []));
  return [1, 2, 3, 4, 5, 6, 7, 8].find((rank) => !taken.includes(rank)) ?? 9;
}

/** A band within what there is, given up before it: half as wide where it has two ends. */
function addBand(k: number) {
  editCv(k, (own) => {
    const ranks = (["low", "high"] as const).map((side) => freeRank(own, side));
    const rank = Math.max(...ranks);
    const inner = own.bands?.at(-1) ?? own;
    const { low, high } = spanOf(props.trial, own.tag);
    const [from, to] = [inner.low?.value ?? low, inner.high?.value ?? high];
    const quarter = Number(((to - from) / 4).toPrecision(2));
    own.bands = [
      ...(own.bands ?? []),
      { low: { value: from + quarter, rank }, high: { value: to - quarter, rank } },
    ];
  });
  emit("settled");
}

/** What nothing measures has limits, and a way back from beyond them. */
function cvFields(cv: Cv, k: number): Field[] {
  const back: Field = {
    key: `cvs[${k}].response_time`,
    label: "Back within",
    unit: "s",
    hint: "time constant of the way back",
    byRatio: true,
    value: cv.response_time ?? 0,
    set: whenGiven((value) => editCv(k, (own) => (own.response_time = value))),
    halves: true,
    ...rangeOf("ControlledVariable", "response_time"),
  };
  const limits = [...limitFields(cv, k, "low"), ...limitFields(cv, k, "high")];
  if (cv.estimated) return [...limits, back];
  return [
    back,
    {
      key: `cvs[${k}].weight`,
      label: "Counts",
      unit: "",
      hint: "beside an error of another CV",
      byRatio: true,
      value: cv.weight ?? 1,
      set: whenGiven((value) => editCv(k, (own) => (own.weight = value))),
      ...rangeOf("ControlledVariable", "weight"),
    },
    ...limits,
    {
      key: `cvs[${k}].believed_after`,
      label: "A deviation is believed after",
      unit: "s",
      hint: "short trusts the measurement, long the model",
      value: cv.believed_after ?? null,
      whenEmpty: "the time back",
      set: (value) => editCv(k, (own) => (own.believed_after = value ?? undefined)),
      ...rangeOf("ControlledVariable", "believed_after"),
    },
  ];
}

function mvFields(mv: Mv, k: number): Field[] {
  type Name = "low" | "high" | "rate" | "usual_move" | "follows_within" | "rests_at";
  const field = (name: Name, rest: Partial<Field>): Field => ({
    key: `mvs[${k}].${name}`,
    label: "",
    unit: "%",
    value: mv[name] ?? null,
    set: whenGiven((value) => editMv(k, (own) => (own[name] = value))),
    ...rangeOf("ManipulatedVariable", name),
    ...rest,
  });
  return [
    field("usual_move", {
      label: "A usual move is",
      hint: "costs as much as 1 % of error",
      byRatio: true,
      halves: true,
    }),
    field("low", { label: "Not below", value: mv.low ?? 0 }),
    field("high", { label: "Not above", value: mv.high ?? 100 }),
    field("rate", {
      label: "Not faster than",
      unit: "%/s",
      byRatio: true,
      whenEmpty: "as fast as it will",
      set: (value) => editMv(k, (own) => (own.rate = value ?? undefined)),
    }),
    field("follows_within", {
      label: "Its position is read back, and follows within",
      hint: "one that does not follow is left where it is",
      whenEmpty: "not read back",
      set: (value) => editMv(k, (own) => (own.follows_within = value ?? undefined)),
    }),
    field("rests_at", {
      label: "Rests at, where there is a choice",
      whenEmpty: "where it stands",
      set: (value) => editMv(k, (own) => (own.rests_at = value ?? undefined)),
    }),
    ...(mv.drives ? (["at_0", "at_100"] as const).map((end) => endField(mv, k, end)) : []),
    {
      key: `mvs[${k}].cost`,
      label: "Costs",
      unit: "",
      hint: "above 0 it is pushed down, below 0 up",
      value: mv.cost ?? 0,
      set: whenGiven((value) => editMv(k, (own) => (own.cost = value))),
    },
  ];
}

/** What the input of the model is at an end of the MV, where the model is not in %. */
function endField(mv: Mv, k: number, end: "at_0" | "at_100"): Field {
  return {
    key: `mvs[${k}].drives.${end}`,
    label: `${readable(mv.input)} at ${end === "at_0" ? "0" : "100"} %`,
    unit: "",
    value: mv.drives?.[end] ?? null,
    set: whenGiven((value) => editMv(k, (own) => own.drives && (own.drives[end] = value))),
  };
}

/** A linear model may know what its inputs are in their units, too: it is the structure that tells. */
const byEquations = computed(() => ["library", "equations"].includes(props.settings.model.structure));

// --- where disturbances act ---

const inputs = computed(() => [...props.settings.mvs, ...(props.settings.dvs ?? [])].map((one) => one.input));

/** Parameters of the equations, of which one may drift. */
const drifting = computed(() =>
  byEquations.value ? (props.description?.parameters ?? []).map((parameter) => parameter.name) : [],
);

function placeOf(cv: Cv): string {
  const { disturbance } = cv;
  if (!disturbance) return "";
  if (typeof disturbance === "string") return disturbance;
  return "input" in disturbance ? `input ${disturbance.input}` : `parameter ${disturbance.parameter}`;
}

function setPlace(k: number, place: string) {
  editCv(k, (own) => {
    if (!place) own.disturbance = undefined;
    else if (place === "output" || place === "nowhere") own.disturbance = place;
    else if (place.startsWith("parameter "))
      own.disturbance = { parameter: place.slice("parameter ".length) };
    else own.disturbance = { input: place.slice("input ".length) };
  });
}

/** What the server says against a choice, which stands at that choice. */
const said = ref<{ of: "model" | "estimated" | "moves" | "learns"; text: string } | null>(null);

// --- moves by which it learns how strongly its MVs act ---

const learningFields = computed<Field[]>(() => {
  const { learns } = props.settings;
  if (!learns) return [];
  type Name = "lasts" | "amplitude" | "clock" | "again_after";
  const field = (name: Name, label: string, rest: Partial<Field> = {}): Field => ({
    key: `learns.${name}`,
    label,
    unit: "s",
    byRatio: true,
    value: learns[name] ?? null,
    set: whenGiven((value) =>
      emit("change", (settings) => settings.learns && (settings.learns[name] = value)),
    ),
    ...rangeOf("Learning", name),
    ...rest,
  });
  return [
    field("lasts", "For"),
    field("amplitude", "To either side by", { unit: "%" }),
    field("clock", "Each held for at least"),
    field("again_after", "Anew every", {
      whenEmpty: "never",
      set: (value) =>
        emit("change", (settings) => settings.learns && (settings.learns.again_after = value ?? undefined)),
    }),
  ];
});

async function learn(value: boolean) {
  said.value = null;
  if (!value) {
    emit("change", (settings) => (settings.learns = undefined));
    emit("settled");
    return;
  }
  try {
    const taken = await answered(api.POST("/api/v1/predictive/learning", { body: plain(props.trial) }));
    emit("change", (settings) => (settings.learns = taken.learns));
    emit("settled");
  } catch (error) {
    said.value = { of: "learns", text: messageOf(error) };
    refusals.value += 1;
  }
}

// --- the moves, as text: what is typed stays as it is while it is typed ---

const typed = ref<string | null>(null);
const moves = computed(() => typed.value ?? movesOf(props.settings.moves));
const refused = ref("");

function typeMoves(text: string) {
  typed.value = text;
  const found = movesIn(text);
  refused.value = typeof found === "string" ? found : "";
  if (typeof found !== "string" && String(found) !== String(props.settings.moves))
    emit("change", (settings) => (settings.moves = found));
}

/** Whether something is known beforehand, which moves that are held for long cannot meet as it comes. */
const knowsAhead = computed(
  () =>
    props.settings.cvs.some((cv) => cv.set_point_known_ahead) ||
    (props.settings.dvs ?? []).some((dv) => dv.known_ahead),
);
async function holdEvenly() {
  said.value = null;
  try {
    const taken = await answered(
      api.POST("/api/v1/predictive/moves", { body: { trial: props.trial, until: null } }),
    );
    typed.value = null;
    emit("change", (settings) => (settings.moves = taken.moves));
    emit("settled");
  } catch (error) {
    said.value = { of: "moves", text: messageOf(error) };
  }
}

// --- the model that it plans with ---

/** A choice that is refused goes back to what there is. */
const refusals = ref(0);

/** Outputs of the process that are no CV yet, and that nothing measures. */
const unmeasured = computed(() => {
  const { plant } = props.trial;
  const outputs = props.description?.outputs ?? [];
  const measured = [
    plant.measured ?? outputs[0]?.name,
    ...(plant.further_measured ?? []).map((one) => one.output),
  ];
  const taken = [...measured, ...props.settings.cvs.map((cv) => cv.output)];
  return outputs.filter((output) => !taken.includes(output.name));
});

function leaveBandOut(k: number, band: number) {
  editCv(k, (own) => own.bands?.splice(band, 1));
  emit("settled");
}

function leaveOut(k: number) {
  emit("change", (settings) => settings.cvs.splice(k, 1));
  emit("settled");
}

async function takeModel(equations: boolean, estimated?: string) {
  said.value = null;
  try {
    const body = { trial: props.trial, equations, estimated };
    const taken = await answered(api.POST("/api/v1/predictive/model", { body }));
    emit("change", (settings) => Object.assign(settings, { inputs: undefined }, taken));
    emit("settled");
  } catch (error) {
    said.value = { of: estimated ? "estimated" : "model", text: messageOf(error) };
    refusals.value += 1;
  }
}

function leaveMoves() {
  // What is no list of moves stays to be mended.
  if (!refused.value) typed.value = null;
  emit("settled");
}
</script>

<template>
  <div class="grid gap-[6px]">
    <FieldList :fields="general" @settled="emit('settled')" />
    <label class="grid gap-1">
      <span>Moves held for <span class="text-soft">scans</span></span>
      <input
        class="entry"
        :value="moves"
        aria-label="Moves held for, scans"
        :aria-invalid="refused !== ''"
        @input="typeMoves(($event.target as HTMLInputElement).value)"
        @keydown.enter="emit('settled')"
        @blur="leaveMoves"
      />
    </label>
    <p v-if="refused" class="text-limit" role="alert">{{ refused }}</p>
    <button
      v-else-if="knowsAhead"
      type="button"
      class="button justify-self-start !py-0"
      title="Moves of about one length meet what is known to come wherever it comes"
      @click="holdEvenly"
    >
      Spread them evenly
    </button>
    <p v-if="said?.of === 'moves'" class="text-limit" role="alert">{{ said.text }}</p>
    <CheckField
      v-if="!byEquations"
      label="what comes beyond the horizon counts"
      :model-value="settings.beyond_horizon ?? true"
      @update:model-value="(value) => emit('change', (own) => (own.beyond_horizon = value))"
    />
    <template v-if="!byEquations">
      <CheckField
        :key="refusals"
        label="learns how strongly its MVs act"
        :model-value="settings.learns != null"
        @update:model-value="learn"
      />
      <fieldset v-if="settings.learns" class="grid gap-[6px] border-l-2 border-rule pl-2">
        <legend class="float-left text-[12.5px] text-soft">
          It moves them at random, within their limits, and plans with what that tells.
        </legend>
        <FieldList :fields="learningFields" @settled="emit('settled')" />
      </fieldset>
      <p v-if="said?.of === 'learns'" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
        {{ said.text }}
      </p>
    </template>
    <section
      v-for="(cv, k) in settings.cvs"
      :key="cv.tag"
      class="grid gap-[6px] border-t border-rule pt-2"
      :aria-label="`CV ${cv.tag}`"
    >
      <h2 class="flex items-baseline justify-between font-semibold">
        <span>{{ cv.estimated ? readable(cv.tag) : cv.tag }}</span><span
          class="text-[12.5px] font-normal text-soft"
          >{{ cv.estimated ? "estimated" : "CV" }}</span
        >
      </h2>
      <p v-if="cv.estimated" class="text-[12.5px] text-soft">
        Nothing measures it: it is what the model makes of it, and keeps within limits.
      </p>
      <CheckField
        v-if="!cv.estimated"
        label="is led to its set point"
        :model-value="cv.follows_set_point ?? true"
        @update:model-value="(value) => follow(k, value)"
      />
      <CheckField
        v-if="!cv.estimated && (cv.follows_set_point ?? true)"
        label="whose course is known beforehand"
        :model-value="cv.set_point_known_ahead ?? false"
        @update:model-value="(value) => editCv(k, (own) => (own.set_point_known_ahead = value || undefined))"
      />
      <FieldList :fields="cvFields(cv, k)" @settled="emit('settled')" />
      <fieldset
        v-for="(_, band) in cv.bands ?? []"
        :key="band"
        class="grid gap-[6px] border-l-2 border-rule pl-2"
      >
        <legend class="float-left text-[12.5px] text-soft">Another band</legend>
        <FieldList
          :fields="[...limitFields(cv, k, 'low', band), ...limitFields(cv, k, 'high', band)]"
          @settled="emit('settled')"
        />
        <button
          type="button"
          class="button justify-self-start !py-0"
          :aria-label="`Leave band ${band + 2} of ${readable(cv.tag)} out`"
          @click="leaveBandOut(k, band)"
        >
          Leave it out
        </button>
      </fieldset>
      <button
        v-if="(cv.low || cv.high) && (cv.bands ?? []).length < 8"
        type="button"
        class="button justify-self-start !py-0"
        title="Limits of another rank: a narrow band that is given up before a wide one"
        :aria-label="`Another band of ${readable(cv.tag)}`"
        @click="addBand(k)"
      >
        Another band
      </button>
      <button v-if="cv.estimated" type="button" class="button justify-self-start !py-0" @click="leaveOut(k)">
        Leave {{ readable(cv.tag) }} out
      </button>
      <ChoiceField
        v-else
        label="What disturbs it acts"
        :model-value="placeOf(cv)"
        :choices="[
          { value: '', title: 'where it can be told' },
          { value: 'output', title: 'at the signal itself' },
          ...inputs.map((name) => ({ value: `input ${name}`, title: `at ${readable(name)}` })),
          ...drifting.map((name) => ({
            value: `parameter ${name}`,
            title: `${readable(name)}, drifting`,
          })),
          { value: 'nowhere', title: 'nowhere: an offset stays' },
        ]"
        @update:model-value="setPlace(k, $event)"
      />
    </section>
    <ChoiceField
      v-if="unmeasured.length"
      :key="`${refusals} ${settings.cvs.length}`"
      label="Limit what nothing measures"
      model-value=""
      :choices="[
        { value: '', title: 'choose' },
        ...unmeasured.map((output) => ({ value: output.name, title: readable(output.name) })),
      ]"
      @update:model-value="(output) => output && takeModel(byEquations, output)"
    />
    <p v-if="said?.of === 'estimated'" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
      {{ said.text }}
    </p>
    <section
      v-for="(mv, k) in settings.mvs"
      :key="mv.tag"
      class="grid gap-[6px] border-t border-rule pt-2"
      :aria-label="`MV ${mv.tag}`"
    >
      <h2 class="flex items-baseline justify-between font-semibold">
        <span>{{ mv.tag }}</span><span class="text-[12.5px] font-normal text-soft">MV</span>
      </h2>
      <FieldList :fields="mvFields(mv, k)" @settled="emit('settled')" />
    </section>
    <section
      v-for="(dv, k) in settings.dvs ?? []"
      :key="dv.signal"
      class="grid gap-[6px] border-t border-rule pt-2"
      :aria-label="`DV ${readable(dv.signal)}`"
    >
      <h2 class="flex items-baseline justify-between font-semibold">
        <span>{{ readable(dv.signal) }}</span><span class="text-[12.5px] font-normal text-soft">DV</span>
      </h2>
      <CheckField
        label="is forecast over the horizon"
        :model-value="dv.known_ahead ?? false"
        @update:model-value="(value) => editDv(k, (own) => (own.known_ahead = value || undefined))"
      />
    </section>
    <fieldset class="grid gap-1 border-t border-rule pt-2">
      <legend class="sr-only">What it plans with</legend>
      <ChoiceField
        :key="refusals"
        label="Plans with"
        :model-value="byEquations ? 'equations' : 'linear'"
        :choices="[
          { value: 'linear', title: 'a linear model' },
          { value: 'equations', title: `plant's equations` },
        ]"
        @update:model-value="(kind) => takeModel(kind === 'equations')"
      />
      <p class="text-[12.5px] text-soft">
        {{
          byEquations
            ? "They are integrated, and linearised along the path that was planned last, at every scan; nothing counts beyond the horizon."
            : "The plant's process about where it rested when this was proposed."
        }}
      </p>
      <p v-if="said?.of === 'model'" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
        {{ said.text }}
      </p>
    </fieldset>
    <button type="button" class="button justify-self-start !py-0" @click="emit('again')">
      Propose anew on the plant as it is
    </button>
  </div>
</template>
