<script setup lang="ts">
/** What can be set of a candidate, whatever the kind of its controller. */
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import { beginWith, KINDS, type Kind, type Pid } from "../control/controllers";
import { readable } from "../control/events";
import { measuredTags, settableTags, signalTags, wiresOf } from "../control/loops";
import { rangeIn, whenGiven, type Field } from "../lib/field";
import { duration, number } from "../lib/format";
import { useKept } from "../lib/kept";
import { tell } from "../lib/notes";
import { plain } from "../lib/plain";
import ChoiceField from "./ChoiceField.vue";
import FieldList from "./FieldList.vue";
import PredictiveMargin from "../control/PredictiveMargin.vue";
import type { Predictive } from "../control/predictive";
import SavedList from "../control/SavedList.vue";
import { useSaved, type SavedItem } from "../control/useSaved";
import PidFields from "./PidFields.vue";
import ProblemNote from "./ProblemNote.vue";

const props = defineProps<{
  trial: Trial;
  description: Schemas["Description"] | null;
  closedLoopTimeConstant: number | null;
}>();
const emit = defineEmits<{
  change: [edit: (trial: Trial) => void, name?: string];
  tune: [timeConstant: number];
  made: [name: string];
  settled: [];
}>();

const controller = computed(() => props.trial.candidate.controller);
const problem = ref("");

/** Settings of each kind as they were left, and the scenario before a relay experiment. */
type Left = Pick<Trial["candidate"], "controller" | "sets" | "further">;
const left = useKept<Record<string, Left>>(`settings left of ${props.trial.plant.pv.tag}`, () => ({}));
let scenarioBefore: Trial["scenario"] | null = null;

async function chooseKind(kind: string, anew = false) {
  const { controller: own, sets, further } = props.trial.candidate;
  left.value = { ...left.value, [own.kind]: plain({ controller: own, sets, further }) };
  problem.value = "";
  try {
    const known = anew ? undefined : left.value[kind];
    const begun =
      known && kind !== "relay"
        ? { ...known, scenario: props.trial.scenario }
        : await beginWith(kind as Kind, props.trial);
    const wasRelay = controller.value.kind === "relay";
    if (kind === "relay" && !wasRelay) scenarioBefore = props.trial.scenario;
    const scenario = wasRelay && scenarioBefore && kind !== "relay" ? scenarioBefore : begun.scenario;
    emit("change", (trial) => {
      trial.candidate.controller = begun.controller;
      trial.candidate.sets = begun.sets;
      trial.candidate.further = begun.further;
      trial.scenario = scenario;
    });
  } catch (error) {
    problem.value = messageOf(error);
  }
}

/** Signals that a controller can read besides the PV. */
const signals = computed(() => {
  const measured = props.trial.plant.measured ?? props.description?.outputs[0]?.name;
  const driven = props.trial.plant.drive?.input ?? props.description?.drive.input;
  return [
    { name: "load", unit: "%" },
    ...(props.description?.inputs ?? []).filter((input) => input.name !== driven),
    ...(props.description?.outputs ?? []).filter((output) => output.name !== measured),
    ...signalTags(props.trial),
  ];
});

type Any = Record<string, unknown>;

/** A field of the controller by its path. */
function field(
  path: string,
  label: string,
  unit: string,
  more: Partial<Field> & { optional?: boolean } = {},
): Field {
  const names = path.split(".");
  const read = (from: Any) =>
    names.reduce<unknown>((place, name) => (place as Any | undefined)?.[name], from);
  const put = (value: number | null) =>
    emit("change", (trial) => {
      let place = trial.candidate.controller as unknown as Any;
      for (const name of names.slice(0, -1)) place = (place[name] ??= {}) as Any;
      place[names.at(-1) as string] = value;
    });
  const { optional, ...rest } = more;
  return {
    key: path,
    label,
    unit,
    value: (read(controller.value as unknown as Any) as number | null | undefined) ?? null,
    set: optional ? put : whenGiven(put),
    ...rangeIn(DOCUMENTS[controller.value.kind] ?? "", path),
    ...rest,
  };
}

/** The document that holds the settings of a kind, by which their ranges are known. */
const DOCUMENTS: Record<string, string> = {
  smith: "SmithSettings",
  model_reference: "ModelReferenceSettings",
  self_tuning: "SelfTuningSettings",
  relay: "RelaySettings",
};
const byRatio = { byRatio: true };
const fields = computed<Field[]>(() => {
  const now = controller.value;
  switch (now.kind) {
    case "smith":
      return [
        ...Object.entries(now.model)
          .filter(([, value]) => typeof value === "number")
          .map(([name]) =>
            field(
              `model.${name}`,
              `Model: ${readable(name)}`,
              name === "gain" ? "PV/%" : name === "damping" ? "" : "s",
              {
                byRatio: true,
              },
            ),
          ),
        field("filter_time", "Prediction filter", "s", { value: now.filter_time ?? 0 }),
      ];
    case "model_reference":
      return [
        field("reference_time_constant", "Reference time constant", "s", byRatio),
        field("reference_damping", "Reference damping", "", {
          ...byRatio,
          optional: true,
          whenEmpty: "first order",
        }),
        field("learning_gain", "Learning gain", "1/s", byRatio),
        field("start.set_point", "Gain on the set point, start", "%/%", { byRatio: true }),
        field("start.measurement", "Gain on the PV, start", "%/%"),
        ...(now.reference_damping
          ? [field("start.rate", "Gain on the rate, start", "%/%", { value: now.start.rate ?? 0 })]
          : []),
        field("leakage", "Leakage", "1/s", { value: now.leakage ?? 0 }),
        field("bound", "Bound of the gains, ±", "", { ...byRatio, optional: true, whenEmpty: "none" }),
      ];
    case "self_tuning":
      return [
        field("dead_time", "Dead time", "s"),
        field("identification_time", "Learns for", "s", byRatio),
        field("amplitude", "Moves by ±", "%", byRatio),
        field("clock", "Least time between moves", "s", byRatio),
        field("forgetting", "Forgetting factor", "", { value: now.forgetting ?? 1 }),
        field("closed_loop_time_constant", "Closed-loop τc", "s", byRatio),
      ];
    case "relay":
      return [
        field("amplitude", "Amplitude", "%", byRatio),
        field("hysteresis", "Hysteresis, ±", "%", { value: now.hysteresis ?? 0 }),
        field("bias", "Bias", "%", { value: now.bias ?? 0 }),
      ];
    case "cascade":
      return [
        field("span.low", "Span of the inner PV from", now.span.unit),
        field("span.high", "to", now.span.unit),
      ];
    default:
      return [];
  }
});

const flags = computed<{ key: string; label: string; value: boolean }[]>(() => {
  const now = controller.value;
  if (now.kind === "model_reference")
    return [
      {
        key: "normalised",
        label: "learning normalised by the size of the moves",
        value: now.normalised ?? false,
      },
    ];
  if (now.kind === "self_tuning")
    return [
      {
        key: "keeps_learning",
        label: "keeps learning while it controls",
        value: now.keeps_learning ?? false,
      },
    ];
  return [];
});

function setFlag(key: string, value: boolean) {
  emit("change", (trial) => Object.assign(trial.candidate.controller, { [key]: value }));
}

function editPid(which: "pid" | "smith" | "outer" | "inner", edit: (pid: Pid) => void) {
  emit("change", (trial) => {
    const now = trial.candidate.controller;
    if (now.kind === "pid") edit(now);
    else if (now.kind === "smith") edit(now.pid);
    else if (now.kind === "cascade") edit(which === "inner" ? now.inner : now.outer);
  });
}

function editPredictive(edit: (settings: Predictive) => void) {
  emit("change", (trial) => {
    if (trial.candidate.controller.kind === "predictive") edit(trial.candidate.controller);
  });
}

/** Sets the predictive controller up again, on the plant as it is now. */
function proposeAnew() {
  void chooseKind("predictive", true);
}

function setSignal(name: string) {
  const output = props.description?.outputs.find((known) => known.name === name);
  emit("change", (trial) => {
    const now = trial.candidate.controller;
    if (now.kind === "cascade" && output)
      Object.assign(now, { signal: name, span: { ...now.span, unit: output.unit } });
  });
}

const reading = shallowRef<Schemas["RelayReading"] | null>(null);
const unread = ref("");
watch(
  () => (controller.value.kind === "relay" ? JSON.stringify(props.trial) : ""),
  async (text) => {
    reading.value = null;
    unread.value = "";
    if (!text) return;
    try {
      reading.value = await answered(api.POST("/api/v1/tune/relay", { body: JSON.parse(text) as Trial }));
    } catch (error) {
      unread.value = messageOf(error);
    }
  },
  { immediate: true },
);

const ratioFields = computed<Field[]>(() => {
  const ratio = props.trial.candidate.ratio;
  const unit = signals.value.find((signal) => signal.name === ratio?.signal)?.unit ?? "";
  return ratio
    ? [
        {
          key: "ratio",
          label: "Ratio",
          unit: `${props.trial.plant.pv.span.unit} per ${unit}`,
          value: ratio.ratio,
          set: whenGiven((value) =>
            emit("change", (trial) => trial.candidate.ratio && (trial.candidate.ratio.ratio = value)),
          ),
        },
      ]
    : [];
});

function setRatio(signal: string) {
  emit("change", (trial) => {
    trial.candidate.ratio = signal ? { ratio: 1, ...trial.candidate.ratio, signal } : undefined;
  });
}

const { saved, unreadable, trouble, save, change: keepSaved, forget, specOf } = useSaved("candidate");

function use(item: SavedItem) {
  emit("change", (trial) => (trial.candidate = specOf(item)), `candidate ${item.name}`);
}

const settable = computed(() => settableTags(props.trial, ""));
function setTarget(to: string) {
  emit("change", (trial) => (trial.candidate.sets = to === trial.plant.op.tag ? [] : [{ to }]));
}

/** One more controller: of what nobody measures yet, on an OP that nobody sets yet, or overriding the first. */
async function another() {
  try {
    const { wired, remark } = await answered(api.POST("/api/v1/tune/another", { body: props.trial }));
    emit("change", (trial) => (trial.candidate.further ??= []).push(wired), `with ${wired.name}`);
    emit("made", wired.name);
    tell(`${wired.name}: ${remark}`);
    trouble.value = "";
  } catch (error) {
    trouble.value = messageOf(error);
  }
}

function setTracking(value: boolean) {
  emit("change", (trial) => (trial.candidate.set_point_tracking = value));
}
</script>

<template>
  <div class="grid gap-[6px]">
    <SavedList
      what="candidate"
      :items="saved"
      :unreadable="unreadable"
      :keep="(item, name, remark, force) => keepSaved(item, name, remark, null, force)"
      @use="use"
      @save="save($event, trial.candidate)"
      @replace="keepSaved($event, $event.name, $event.remark, trial.candidate)"
      @forget="forget"
    />
    <ProblemNote :text="trouble" />
    <ChoiceField
      label="Controller"
      :model-value="controller.kind"
      :choices="KINDS"
      @update:model-value="chooseKind"
    />
    <p v-if="problem" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ problem }}</p>
    <PidFields
      v-if="controller.kind === 'pid'"
      :pid="controller"
      :span="trial.plant.pv.span"
      :signals="signals"
      :closed-loop-time-constant="closedLoopTimeConstant"
      @edit="editPid('pid', $event)"
      @tune="emit('tune', $event)"
      @settled="emit('settled')"
    />
    <template v-else-if="controller.kind === 'smith'">
      <FieldList :fields="fields" @settled="emit('settled')" />
      <p class="border-t border-rule pt-1 text-soft">PID on the prediction</p>
      <PidFields
        :pid="controller.pid"
        :span="trial.plant.pv.span"
        :signals="signals"
        @edit="editPid('smith', $event)"
        @settled="emit('settled')"
      />
    </template>
    <template v-else-if="controller.kind === 'cascade'">
      <p class="text-soft">Outer controller, of {{ trial.plant.pv.tag }}</p>
      <PidFields
        :pid="controller.outer"
        :span="trial.plant.pv.span"
        :signals="[]"
        @edit="editPid('outer', $event)"
        @settled="emit('settled')"
      />
      <ChoiceField
        class="border-t border-rule pt-2"
        label="Inner controller, of"
        :model-value="controller.signal"
        :choices="
          (description?.outputs ?? []).map((output) => ({ value: output.name, title: readable(output.name) }))
        "
        @update:model-value="setSignal"
      />
      <FieldList :fields="fields" @settled="emit('settled')" />
      <PidFields
        :pid="controller.inner"
        :span="controller.span"
        :signals="[]"
        @edit="editPid('inner', $event)"
        @settled="emit('settled')"
      />
    </template>
    <PredictiveMargin
      v-else-if="controller.kind === 'predictive'"
      :trial="trial"
      :settings="controller"
      :description="description ?? null"
      @change="editPredictive"
      @settled="emit('settled')"
      @again="proposeAnew"
    />
    <template v-else>
      <FieldList :fields="fields" @settled="emit('settled')" />
      <label v-for="flag in flags" :key="flag.key" class="flex items-center gap-2">
        <input
          type="checkbox"
          :checked="flag.value"
          @change="setFlag(flag.key, ($event.target as HTMLInputElement).checked)"
        />
        {{ flag.label }}
      </label>
      <p v-if="controller.kind === 'manual'" class="text-soft">
        The output stands where it is; operator moves in the scenario shift it.
      </p>
      <div v-if="controller.kind === 'relay'" class="border-t border-rule pt-2">
        <p v-if="unread" class="text-caution">△ {{ unread }}</p>
        <dl v-else-if="reading" class="grid grid-cols-[1fr_auto] gap-x-4">
          <dt>Ultimate gain</dt>
          <dd class="text-right">{{ number(reading.ultimate_gain) }} %/%</dd>
          <dt>Ultimate period</dt>
          <dd class="text-right">{{ duration(reading.ultimate_period) }}</dd>
          <dt class="col-span-2 text-[12.5px] text-soft">
            {{
              reading.process
                ? "Both of the process that was identified from the whole experiment."
                : "Both of the limit cycle taken for a sine: no process of low order explains it."
            }}
          </dt>
          <dt>Ultimate gain by the describing function</dt>
          <dd class="text-right">{{ number(reading.describing_function_gain) }} %/%</dd>
          <dt>Amplitude of the PV</dt>
          <dd class="text-right">{{ number(reading.amplitude) }} %</dd>
          <template v-if="reading.static_gain">
            <dt>Static gain</dt>
            <dd class="text-right">{{ number(reading.static_gain) }} %/%</dd>
          </template>
        </dl>
      </div>
    </template>
    <ChoiceField
      v-if="settable.length > 1"
      label="Sets"
      :model-value="wiresOf(trial, '')[0]?.to ?? ''"
      :choices="settable.map((tag) => ({ value: tag, title: tag }))"
      @update:model-value="setTarget"
    />
    <button
      v-if="settable.length > 1 || measuredTags(trial).length > 1"
      type="button"
      class="button justify-self-start !py-0"
      @click="another"
    >
      Another controller
    </button>
    <template v-if="!['manual', 'relay'].includes(controller.kind)">
      <ChoiceField
        class="border-t border-dashed border-rule pt-2"
        label="Set point in ratio to"
        :model-value="trial.candidate.ratio?.signal ?? ''"
        :choices="[
          { value: '', title: 'nothing' },
          ...signals.map(({ name }) => ({ value: name, title: readable(name) })),
        ]"
        @update:model-value="setRatio"
      />
      <FieldList :fields="ratioFields" @settled="emit('settled')" />
      <label class="flex items-center gap-2">
        <input
          type="checkbox"
          :checked="trial.candidate.set_point_tracking ?? false"
          @change="setTracking(($event.target as HTMLInputElement).checked)"
        />
        set point follows the PV in manual
      </label>
    </template>
  </div>
</template>
