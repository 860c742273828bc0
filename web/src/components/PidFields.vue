<script setup lang="ts">
/** The settings of a PID controller: the important few in sight, the rest one disclosure away. */
import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/vue";
import { computed } from "vue";
import type { Schemas } from "../api/client";
import NotationNote from "../control/NotationNote.vue";
import type { Pid } from "../control/controllers";
import { readable } from "../control/events";
import { rangeIn, rangeOf, whenGiven, type Field } from "../lib/field";
import { duration, number } from "../lib/format";
import ChoiceField from "./ChoiceField.vue";
import FieldList from "./FieldList.vue";

const props = defineProps<{
  pid: Pid;
  /** Span of the PV that it is on. */
  span: Schemas["Span"];
  /** Signals that feed-forward and schedule can go by; none where they cannot. */
  signals: { name: string; unit: string }[];
  /** τc of the SIMC rule in force; undefined where the rule is not offered. */
  closedLoopTimeConstant?: number | null;
}>();
const emit = defineEmits<{ edit: [edit: (pid: Pid) => void]; tune: [timeConstant: number]; settled: [] }>();

const set = (edit: (pid: Pid) => void) => emit("edit", edit);
const limits = computed(() => props.pid.output_limits ?? { low: 0, high: 100 });

function limitField(end: "low" | "high", label: string, range: string): Field {
  const put = (value: number) => set((pid) => (pid.output_limits = { ...limits.value, [end]: value }));
  return { key: end, label, unit: "%", range, value: limits.value[end], set: whenGiven(put) };
}

const few = computed<Field[]>(() => [
  ...(props.closedLoopTimeConstant === undefined
    ? []
    : [
        {
          key: "tau",
          label: "Closed-loop τc",
          unit: "s",
          range: "SIMC",
          whenEmpty: "by hand",
          ...rangeOf("RuleChoice", "closed_loop_time_constant"),
          byRatio: true,
          value: props.closedLoopTimeConstant,
          set: whenGiven((value) => emit("tune", value)),
        },
      ]),
  {
    key: "gain",
    label: "Gain",
    unit: "%/%",
    ...rangeOf("PidSettings", "gain"),
    byRatio: true,
    value: props.pid.gain,
    set: whenGiven((value) => set((pid) => (pid.gain = value))),
  },
  {
    key: "integral",
    label: "Integral time",
    unit: "s",
    ...rangeOf("PidSettings", "integral_time"),
    byRatio: true,
    whenEmpty: "off",
    value: props.pid.integral_time ?? null,
    set: (value) => set((pid) => (pid.integral_time = value)),
  },
  {
    key: "derivative",
    label: "Derivative time",
    unit: "s",
    ...rangeOf("PidSettings", "derivative_time"),
    byRatio: true,
    value: props.pid.derivative_time ?? 0,
    set: whenGiven((value) => set((pid) => (pid.derivative_time = value))),
  },
]);

const rest = computed<Field[]>(() => [
  {
    key: "weight",
    label: "Set point weight",
    unit: "",
    ...rangeOf("PidSettings", "set_point_weight"),
    value: props.pid.set_point_weight ?? 1,
    set: whenGiven((value) => set((pid) => (pid.set_point_weight = value))),
  },
  {
    key: "derivative-weight",
    label: "Set point weight of the derivative",
    unit: "",
    hint: "0: derivative on PV, 1: on error",
    ...rangeOf("PidSettings", "derivative_set_point_weight"),
    value: props.pid.derivative_set_point_weight ?? 0,
    set: whenGiven((value) => set((pid) => (pid.derivative_set_point_weight = value))),
  },
  {
    key: "filter",
    label: "Derivative filter N",
    unit: "",
    ...rangeOf("PidSettings", "derivative_filter"),
    value: props.pid.derivative_filter ?? 10,
    set: whenGiven((value) => set((pid) => (pid.derivative_filter = value))),
  },
  {
    key: "pv-filter",
    label: "PV filter",
    unit: "s",
    ...rangeOf("PidSettings", "filter_time"),
    value: props.pid.filter_time ?? 0,
    set: whenGiven((value) => set((pid) => (pid.filter_time = value))),
  },
  {
    key: "gap",
    label: "Gap about the set point, ±",
    unit: "%",
    ...rangeOf("PidSettings", "gap"),
    value: props.pid.gap ?? 0,
    set: whenGiven((value) => set((pid) => (pid.gap = value))),
  },
  ...((props.pid.gap ?? 0) > 0
    ? [
        {
          key: "gap-gain",
          label: "Gain inside the gap",
          unit: "",
          hint: "0: an error dead band",
          ...rangeOf("PidSettings", "gap_gain"),
          value: props.pid.gap_gain ?? 0,
          set: whenGiven((value) => set((pid) => (pid.gap_gain = value))),
        },
      ]
    : []),
  limitField("low", "Low limit", `below ${limits.value.high}`),
  limitField("high", "High limit", `above ${limits.value.low}`),
  {
    key: "rate",
    label: "Rate limit",
    unit: "%/s",
    ...rangeOf("PidSettings", "rate_limit"),
    whenEmpty: "none",
    value: props.pid.rate_limit ?? null,
    set: (value) => set((pid) => (pid.rate_limit = value)),
  },
  ...((props.pid.anti_windup ?? "back_calculation") === "back_calculation" &&
  (props.pid.algorithm ?? "positional") === "positional"
    ? [
        {
          key: "tracking",
          label: "Tracking time",
          unit: "s",
          ...rangeOf("PidSettings", "tracking_time"),
          whenEmpty: "automatic",
          value: props.pid.tracking_time ?? null,
          set: (value: number | null) => set((pid) => (pid.tracking_time = value)),
        },
      ]
    : []),
]);

const choices: {
  key: "action" | "algorithm" | "anti_windup";
  label: string;
  usual: string;
  all: [string, string][];
}[] = [
  {
    key: "action",
    label: "Action",
    usual: "reverse",
    all: [
      ["reverse", "reverse"],
      ["direct", "direct"],
    ],
  },
  {
    key: "algorithm",
    label: "Algorithm",
    usual: "positional",
    all: [
      ["positional", "positional"],
      ["velocity", "velocity"],
    ],
  },
  {
    key: "anti_windup",
    label: "Anti-windup",
    usual: "back_calculation",
    all: [
      ["back_calculation", "back-calculation"],
      ["conditional", "conditional integration"],
      ["clamping", "integral clamped"],
      ["none", "none: it winds up"],
    ],
  },
];

const forward = computed<Field[]>(() => {
  const now = props.pid.feed_forward;
  if (!now) return [];
  const unit = props.signals.find((signal) => signal.name === now.signal)?.unit ?? "";
  const field = (key: "gain" | "lead" | "lag" | "delay", label: string, of: string): Field => ({
    key,
    label,
    unit: of,
    ...rangeIn("FeedForward", key),
    value: now[key] ?? 0,
    set: whenGiven((value) => set((pid) => pid.feed_forward && (pid.feed_forward[key] = value))),
  });
  return [
    field("gain", "Feed-forward gain", unit === "%" ? "%/%" : `%/(${unit})`),
    field("lead", "Lead", "s"),
    field("lag", "Lag", "s"),
    field("delay", "Delay", "s"),
  ];
});

function setForward(signal: string) {
  set((pid) => {
    pid.feed_forward = signal ? { gain: signal === "load" ? -1 : 0, ...pid.feed_forward, signal } : null;
  });
}

type Place = "measurement" | "set_point" | "error" | "output";
const scheduledOver = computed(() => {
  const over = props.pid.schedule?.over;
  return over === undefined ? "" : typeof over === "string" ? over : `signal ${over.signal}`;
});

function setSchedule(over: string) {
  set((pid) => {
    if (!over) {
      pid.schedule = null;
      return;
    }
    const points = pid.schedule?.points ?? [
      { at: over === "error" ? 0 : 25, gain_factor: 1 },
      { at: over === "error" ? 10 : 75, gain_factor: over === "error" ? 2 : 1 },
    ];
    const name = over.startsWith("signal ") ? { signal: over.slice(7) } : (over as Place);
    pid.schedule = { over: name, points };
  });
}

const points = computed<Field[]>(() =>
  (props.pid.schedule?.points ?? []).flatMap((point, k) => [
    {
      key: `at ${k}`,
      label: `Point ${k + 1} at`,
      unit: scheduledOver.value.startsWith("signal ")
        ? (props.signals.find((signal) => `signal ${signal.name}` === scheduledOver.value)?.unit ?? "")
        : "%",
      value: point.at,
      set: whenGiven((value) =>
        set((pid) => {
          const own = pid.schedule?.points[k];
          if (own) own.at = value;
        }),
      ),
    },
    {
      key: `factor ${k}`,
      label: "gain times",
      unit: "",
      ...rangeOf("SchedulePoint", "gain_factor"),
      byRatio: true,
      value: point.gain_factor,
      set: whenGiven((value) =>
        set((pid) => {
          const own = pid.schedule?.points[k];
          if (own) own.gain_factor = value;
        }),
      ),
    },
  ]),
);

function addPoint() {
  set((pid) => {
    const last = pid.schedule?.points.at(-1);
    if (last) pid.schedule?.points.push({ ...last, at: last.at + 10 });
  });
}

const summary = computed(() => [
  `limits ${number(limits.value.low)} to ${number(limits.value.high)} %`,
  `set point weight ${number(props.pid.set_point_weight ?? 1)}`,
  props.pid.action ?? "reverse",
  ...(props.pid.filter_time ? [`PV filter ${duration(props.pid.filter_time)}`] : []),
  ...(props.pid.rate_limit ? [`rate ${number(props.pid.rate_limit)} %/s`] : []),
  ...(props.pid.algorithm === "velocity" ? ["velocity"] : []),
  props.pid.anti_windup && props.pid.anti_windup !== "back_calculation"
    ? `anti-windup ${props.pid.anti_windup}`
    : `tracking ${props.pid.tracking_time ? duration(props.pid.tracking_time) : "automatic"}`,
  ...(props.pid.feed_forward ? [`feed-forward of ${readable(props.pid.feed_forward.signal)}`] : []),
  ...(props.pid.schedule ? ["gain scheduled"] : []),
]);

const overChoices = computed(() => [
  { value: "", title: "nothing: fixed" },
  { value: "measurement", title: "PV" },
  { value: "set_point", title: "set point" },
  { value: "error", title: "size of the error" },
  { value: "output", title: "OP" },
  ...props.signals.map((signal) => ({ value: `signal ${signal.name}`, title: readable(signal.name) })),
]);
const signalChoices = computed(() => [
  { value: "", title: "none" },
  ...props.signals.map((signal) => ({ value: signal.name, title: readable(signal.name) })),
]);

function setChoice(key: "action" | "algorithm" | "anti_windup", value: string) {
  set((pid) => Object.assign(pid, { [key]: value }) as Schemas["PidSettings"]);
}
</script>

<template>
  <FieldList :fields="few" @settled="emit('settled')" />
  <Disclosure v-slot="{ open }">
    <DisclosureButton class="border-t border-dashed border-rule pt-2 text-left text-soft hover:text-ink">
      <span aria-hidden="true">{{ open ? "▾" : "▸" }}</span> Controller: {{ summary.join(" · ") }}
    </DisclosureButton>
    <DisclosurePanel class="grid gap-[6px] pb-1">
      <FieldList :fields="rest" @settled="emit('settled')" />
      <ChoiceField
        v-for="choice in choices"
        :key="choice.key"
        :label="choice.label"
        :model-value="pid[choice.key] ?? choice.usual"
        :choices="choice.all.map(([value, title]) => ({ value, title }))"
        @update:model-value="setChoice(choice.key, $event)"
      />
      <template v-if="signals.length">
        <ChoiceField
          label="Feed-forward of"
          :model-value="pid.feed_forward?.signal ?? ''"
          :choices="signalChoices"
          @update:model-value="setForward"
        />
        <FieldList :fields="forward" @settled="emit('settled')" />
      </template>
      <ChoiceField
        label="Gain scheduled over"
        :model-value="scheduledOver"
        :choices="overChoices"
        @update:model-value="setSchedule"
      />
      <FieldList :fields="points" @settled="emit('settled')" />
      <button v-if="pid.schedule" type="button" class="button justify-self-start !py-0" @click="addPoint">
        Add a point
      </button>
    </DisclosurePanel>
  </Disclosure>
  <NotationNote :pid="pid" :span="span" />
</template>
