<script setup lang="ts">
/** Settings by rule and by optimisation under demands; a press takes them. */
import { computed, reactive, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import ChoiceField from "../components/ChoiceField.vue";
import FieldList from "../components/FieldList.vue";
import VerdictNote from "../components/VerdictNote.vue";
import { rangeOf, type Field } from "../lib/field";
import { duration, letter, number } from "../lib/format";
import { useLoop } from "../lib/loop";
import { mainPid, type Controller } from "./controllers";
import type { useTuning, Wishes } from "./tuning";
import { comebacks } from "../lib/live";

const props = defineProps<{ trial: Trial; tuning: ReturnType<typeof useTuning> }>();
const emit = defineEmits<{ take: [controller: Controller, name: string] }>();

const choice = reactive<{
  terms: Schemas["Terms"];
  aim: Schemas["Aim"];
  overshoot: boolean;
  closed_loop_time_constant: number | null;
  expected_load: number | null;
  allowed_swing: number | null;
}>({
  terms: "pi",
  aim: "load",
  overshoot: false,
  closed_loop_time_constant: null,
  expected_load: null,
  allowed_swing: null,
});

/** Relay experiments of the trail, read: rules that go by the ultimate point can take one in place of the model's. */
const { state } = useLoop();
const relays = shallowRef<{ id: string; name: string; gain: number; period: number }[]>([]);
const relay = ref("");
watch(
  () => state.trials.filter((row) => row.trial.candidate.controller.kind === "relay").map((row) => row.id),
  async (ids) => {
    const rows = state.trials.filter((row) => ids.includes(row.id)).slice(0, 8);
    const read = await Promise.all(
      rows.map(async (row) => {
        const reading = await answered(api.POST("/api/v1/tune/relay", { body: row.trial })).catch(() => null);
        return reading
          ? {
              id: row.id,
              name: letter(row.number),
              gain: reading.ultimate_gain,
              period: reading.ultimate_period,
            }
          : null;
      }),
    );
    relays.value = read.filter((one) => one !== null);
  },
  { immediate: true },
);
const measured = computed(() => relays.value.find((one) => one.id === relay.value) ?? null);
const outcome = shallowRef<Schemas["RulesOutcome"] | null>(null);
const problem = ref("");
const open = ref("");

watch(
  [() => JSON.stringify([props.trial.plant, props.trial.scenario.scan]), choice, measured, comebacks],
  async () => {
    const point = measured.value ? { gain: measured.value.gain, period: measured.value.period } : null;
    try {
      outcome.value = await answered(
        api.POST("/api/v1/tune/rules", {
          body: {
            plant: props.trial.plant,
            scan: props.trial.scenario.scan,
            choice: { ...choice, measured_point: point },
          },
        }),
      );
      problem.value = "";
    } catch (error) {
      problem.value = messageOf(error);
    }
  },
  { immediate: true },
);

function settings(pid: Schemas["PidSettings"]): string {
  return [
    number(pid.gain),
    pid.integral_time ? duration(pid.integral_time) : "–",
    ...(pid.derivative_time ? [duration(pid.derivative_time)] : []),
  ].join(" · ");
}

function take(tuning: Schemas["RuleTuning"]) {
  emit("take", { kind: "pid", ...tuning.to_type_in }, tuning.title);
}

const ruleFields = computed<Field[]>(() => [
  {
    key: "tc",
    label: "τc (IMC, SIMC)",
    unit: "s",
    ...rangeOf("RuleChoice", "closed_loop_time_constant"),
    byRatio: true,
    whenEmpty: "as advised",
    value: choice.closed_loop_time_constant,
    set: (value) => (choice.closed_loop_time_constant = value),
  },
  ...(outcome.value?.process.structure.startsWith("integrating")
    ? [
        {
          key: "load",
          label: "Expected load (averaging)",
          unit: "%",
          ...rangeOf("RuleChoice", "expected_load"),
          whenEmpty: "10",
          value: choice.expected_load,
          set: (value: number | null) => (choice.expected_load = value),
        },
        {
          key: "swing",
          label: "Allowed swing (averaging)",
          unit: "%",
          ...rangeOf("RuleChoice", "allowed_swing"),
          whenEmpty: "20",
          value: choice.allowed_swing,
          set: (value: number | null) => (choice.allowed_swing = value),
        },
      ]
    : []),
]);

const demand = (key: keyof Wishes, label: string, unit: string, min = 0): Field => ({
  key,
  label,
  unit,
  min,
  range: " ",
  exclusive: key !== "overshoot",
  whenEmpty: "any",
  value: props.tuning.wishes[key] as number | null,
  set: (value) => setWish(key, value),
});

const demands = computed<Field[]>(() => [
  demand("max_sensitivity", "Maximum sensitivity below", "", 1),
  demand("overshoot", "Overshoot below", "%"),
  demand("rise_time", "Rise time below", "s"),
  demand("settling_time", "Settling time ±5 % below", "s"),
  demand("output_travel", "OP travel below", "%/%"),
  demand("noise_gain", "Noise to OP below", "%/%"),
  demand("off", "Also with gain and dead time off by ±", "%"),
]);

function setWish(key: keyof Wishes, value: string | number | null) {
  const { wishes } = props.tuning;
  Object.assign(wishes, { [key]: value });
}

const found = computed(() => props.tuning.optimum.value?.optimum ?? null);
const foundPid = computed(() => (found.value ? mainPid(found.value.controller) : null));
const verdict = computed<Schemas["Verdict"] | null>(() => {
  const now = found.value;
  if (!now) return null;
  const rule = "optimisation under the demands above";
  if (!now.met) return { tone: "bad", text: "No settings keep all demands; these miss them least.", rule };
  const active = now.active.map((name) => name.replaceAll("_", " "));
  const text = active.length
    ? `All demands are met; at its limit: ${active.join(", ")}.`
    : "All demands are met, none at its limit.";
  return { tone: "good", text, rule };
});
</script>

<template>
  <div class="grid gap-[6px]">
    <h2 class="font-semibold">By rule</h2>
    <ChoiceField
      label="Terms"
      :model-value="choice.terms"
      :choices="[
        { value: 'p', title: 'P' },
        { value: 'pi', title: 'PI' },
        { value: 'pid', title: 'PID' },
      ]"
      @update:model-value="choice.terms = $event as Schemas['Terms']"
    />
    <ChoiceField
      label="Aim (CHR, ITAE)"
      :model-value="`${choice.aim} ${choice.overshoot}`"
      :choices="[
        { value: 'load false', title: 'load' },
        { value: 'load true', title: 'load, 20 % overshoot' },
        { value: 'set_point false', title: 'set point' },
        { value: 'set_point true', title: 'set point, 20 % overshoot' },
      ]"
      @update:model-value="
        Object.assign(choice, { aim: $event.split(' ')[0], overshoot: $event.endsWith('true') })
      "
    />
    <ChoiceField
      v-if="relays.length"
      label="Ultimate point"
      :model-value="relay"
      :choices="[
        { value: '', title: 'of the model' },
        ...relays.map((one) => ({
          value: one.id,
          title: `relay ${one.name}: Ku ${number(one.gain)} %/%, Pu ${duration(one.period)}`,
        })),
      ]"
      @update:model-value="relay = $event"
    />
    <FieldList :fields="ruleFields" />
    <p v-if="problem" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ problem }}</p>
    <ul v-if="outcome" class="grid gap-[3px]" aria-label="Rules">
      <li v-for="rule in outcome.rules" :key="rule.rule">
        <div class="grid grid-cols-[minmax(0,1fr)_auto_auto] items-center gap-2">
          <button
            type="button"
            class="truncate text-left hover:underline"
            :class="rule.tuning ? '' : 'text-soft'"
            :aria-expanded="open === rule.rule"
            :title="rule.tuning?.source ?? rule.without ?? ''"
            @click="open = open === rule.rule ? '' : rule.rule"
          >
            <span v-if="rule.tuning?.warnings.length" class="text-caution" aria-label="with a caution"
              >△ </span
            >{{ rule.title }}
          </button>
          <span class="text-[12.5px] whitespace-nowrap">{{
            rule.tuning ? settings(rule.tuning.to_type_in) : "–"
          }}</span>
          <button
            type="button"
            class="button !px-2 !py-0 text-[12px]"
            :disabled="!rule.tuning"
            :aria-label="`Take ${rule.title}`"
            @click="rule.tuning && take(rule.tuning)"
          >
            take
          </button>
        </div>
        <div v-if="open === rule.rule" class="grid gap-1 py-1 pl-3 text-[12.5px]">
          <p v-if="rule.without" class="text-soft">{{ rule.without }}</p>
          <template v-if="rule.tuning">
            <p class="text-soft">{{ rule.tuning.source }} · made for {{ rule.tuning.range }}</p>
            <p v-for="line in rule.tuning.derivation" :key="line">{{ line }}</p>
            <VerdictNote v-for="note in rule.tuning.warnings" :key="note.text" :verdict="note" />
          </template>
        </div>
      </li>
    </ul>
    <h2 class="border-t border-rule pt-2 font-semibold">Best under demands</h2>
    <ChoiceField
      label="Controller"
      :model-value="tuning.wishes.structure"
      :choices="[
        { value: 'pi', title: 'PI' },
        { value: 'pid', title: 'PID' },
        { value: 'smith', title: 'Smith predictor' },
      ]"
      @update:model-value="setWish('structure', $event)"
    />
    <ChoiceField
      label="Least ∫|e| dt of"
      :model-value="tuning.wishes.objective"
      :choices="[
        { value: 'load', title: 'a load step' },
        { value: 'set_point', title: 'a set point step' },
        { value: 'both', title: 'both alike' },
        { value: 'scenario', title: 'the whole scenario' },
      ]"
      @update:model-value="setWish('objective', $event)"
    />
    <FieldList :fields="demands" />
    <label class="grid gap-1">
      also, in words
      <input
        class="entry"
        :value="tuning.wishes.words"
        placeholder="overshoot below 20 %, rise below 1 min"
        @change="setWish('words', ($event.target as HTMLInputElement).value)"
      />
    </label>
    <div class="flex items-center gap-2">
      <template v-if="tuning.running.value">
        <button type="button" class="button" @click="tuning.cancel()">Cancel the search</button>
        <progress
          class="h-2 min-w-0 flex-1 accent-(--pv)"
          :value="tuning.share.value"
          max="1"
          aria-label="Search"
        />
      </template>
      <button v-else type="button" class="button button-main" @click="tuning.run('optimum')">
        Find the best settings
      </button>
    </div>
    <p v-if="tuning.problem.value" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">
      {{ tuning.problem.value }}
    </p>
    <div v-if="found && verdict" class="grid gap-1" aria-label="Optimum">
      <VerdictNote :verdict="verdict" />
      <p v-if="foundPid">
        {{ settings(foundPid) }}
        <span class="text-soft">
          · ∫|e| {{ number(found.figures.load_error) }} % s · Ms {{ number(found.figures.max_sensitivity) }} ·
          OP travel {{ number(found.figures.output_travel) }} · noise
          {{ number(found.figures.noise_gain) }} %/%
        </span>
      </p>
      <p v-for="relaxation in found.relaxations" :key="relaxation.demand">{{ relaxation.text }}</p>
      <button
        type="button"
        class="button justify-self-start"
        @click="
          emit(
            'take',
            found.controller,
            `best ${found.structure === 'smith' ? 'Smith predictor' : found.structure.toUpperCase()}, Ms ${number(found.figures.max_sensitivity)}`,
          )
        "
      >
        Take them
      </button>
      <details class="text-[12.5px]">
        <summary class="cursor-pointer text-soft">
          How they came about, {{ number(tuning.optimum.value?.seconds) }} s
        </summary>
        <p v-for="line in found.derivation" :key="line" class="py-[1px]">{{ line }}</p>
      </details>
    </div>
  </div>
</template>
