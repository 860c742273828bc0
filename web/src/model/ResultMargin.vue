<script setup lang="ts">
/** The numbers of a model, what they mean, and what can be done with it: control, choose for a reason, reduce. */
import { computed, ref, watch } from "vue";
import { answered, api, messageOf, type ModelRow, type RecordInfo, type Schemas } from "../api/client";
import VerdictNote from "../components/VerdictNote.vue";
import { duration, letter, number, plural } from "../lib/format";
import { useKept } from "../lib/kept";
import { inWords, shortName, type Structure } from "../lib/structures";

const props = defineProps<{
  model: ModelRow;
  models: ModelRow[];
  records: RecordInfo[];
  /** The record whose curves are drawn. */
  shown: string | null;
  unit: string;
}>();
const emit = defineEmits<{ changed: [id: string | null]; record: [id: string]; further: [] }>();

/** The stretches of a fit to several, each with its place and how well the model agrees there. */
const stretches = computed(() =>
  props.model.further.length === 0
    ? []
    : [
        { record_id: props.model.record_id, from: props.model.window_from, to: props.model.window_to },
        ...props.model.further,
      ].map((stretch, k) => ({
        ...stretch,
        name: props.records.find((one) => one.id === stretch.record_id)?.name ?? "a record that is gone",
        level: (k ? props.model.model.further?.[k - 1]?.operating : props.model.model.operating)?.pv,
        fit: (k ? props.model.model.further?.[k - 1]?.performance : props.model.model.first_stretch)
          ?.fit_simulated,
      })),
);

const validation = computed(() => props.model.validation ?? null);
/** The parameters, of a matrix cell by cell. */
const groups = computed(() => {
  const { rows = [], outputs, inputs, parameters } = props.model.model;
  if (rows.length === 0) return [{ way: "", parameters }];
  return rows.flatMap((row, k) =>
    row.inputs.map(({ tag }) => ({
      way: `${outputs[k]?.tag} by ${tag}`,
      parameters: row.parameters
        .filter((one) => (one.input ?? row.inputs[0]?.tag) === tag)
        .map((one) => ({ ...one, input: inputs[0]?.tag })),
    })),
  );
});
const physical = computed(() => props.model.model.physical ?? null);
/** Numbers of a physical model that the data do not tell: they have no figure of their own. */
const untold = computed(() => new Set(physical.value?.untold?.flatMap((one) => one.names) ?? []));
/** How each output of a matrix, or of a physical model, is explained. */
const ofOutputs = computed(() =>
  physical.value && physical.value.outputs.length > 1 ? ofBalances() : ofRows(),
);
const ofBalances = () =>
  (physical.value?.outputs ?? []).map((own) => ({
    tag: own.tag,
    unit: props.model.model.outputs.find((one) => one.tag === own.tag)?.unit,
    fitted: own.performance,
    held: own.tag === props.model.model.outputs[0]?.tag ? validation.value?.performance : undefined,
  }));
const ofRows = () =>
  (props.model.model.rows ?? []).map((row, k) => ({
    tag: row.outputs[0]?.tag,
    unit: row.outputs[0]?.unit,
    fitted: row.estimation,
    held: validation.value?.outputs?.[k]?.performance,
  }));
const source = computed(() => props.models.find((row) => row.id === props.model.reduced_from));

/** Value and standard error to the same decimal place: that of the error's second digit. */
function withError(value: number, error: number | null | undefined): [string, string] {
  if (!error) return [number(value, 4), "–"];
  const decimals = Math.max(0, 1 - Math.floor(Math.log10(error)));
  return [value.toFixed(Math.min(decimals, 9)).replace("-", "−"), error.toFixed(Math.min(decimals, 9))];
}

/** A reason that is typed stays until it is kept. */
const reasons = useKept<Record<string, string>>("reasons", () => ({}));
const reason = computed({
  get: () => reasons.value[props.model.id] ?? props.model.reason,
  set: (text) => (reasons.value = { ...reasons.value, [props.model.id]: text }),
});
/** Steps of the first stretch, which the window is about. */
const foundSteps = computed(() => props.model.model.start.steps ?? []);
const noiseTitle = computed(() => {
  const noise = props.model.model.noise;
  if (!noise) return "";
  const terms = noise.coefficients.map((a, k) => `${number(a, 3)} e(t−${k + 1})`).join(" + ");
  return `e(t)${terms ? ` + ${terms}` : ""} = w(t), e being the ${noise.integrated ? "move of the " : ""}disturbance`;
});
const reduction = ref<Schemas["Reduction"] | null>(null);
const problem = ref("");
watch(
  () => props.model.id,
  () => {
    problem.value = "";
    reduction.value = null;
  },
  { immediate: true },
);

async function choose() {
  try {
    await answered(
      api.PUT("/api/v1/models/{id}/chosen", {
        params: { path: { id: props.model.id } },
        body: { reason: reason.value },
      }),
    );
    const { [props.model.id]: _, ...others } = reasons.value;
    reasons.value = others;
    emit("changed", null);
  } catch (error) {
    problem.value = messageOf(error);
  }
}

const target = ref("fopdt:half_rule");
const targets = [
  ["fopdt:half_rule", "first order, half rule"],
  ["fopdt:step_response", "first order, step response"],
  ["two_lags:step_response", "two lags, step response"],
  ["underdamped:step_response", "second order, step response"],
  ["integrating:half_rule", "integrating, half rule"],
] as const;

async function reduce(keep: boolean) {
  problem.value = "";
  const [kind, method] = target.value.split(":") as [string, Schemas["ReductionMethod"]];
  try {
    const found = await answered(
      api.POST("/api/v1/models/{id}/reduction", {
        params: { path: { id: props.model.id } },
        body: { structure: { kind } as Structure, method, keep },
      }),
    );
    reduction.value = found.reduction;
    if (found.kept) emit("changed", found.kept.id);
  } catch (error) {
    reduction.value = null;
    problem.value = messageOf(error);
  }
}
</script>

<template>
  <h1 class="heading mb-2">
    Model {{ letter(model.number) }}
    <span class="ml-1 text-[13px] font-normal text-soft"
      >{{ shortName(model.model.structure) }}, {{ model.model.method }}</span
    >
  </h1>
  <p v-if="model.name || model.remark" class="mb-2 border-l-[3px] border-rule pl-3 whitespace-pre-wrap">
    <strong v-if="model.name" class="font-semibold">{{ model.name }}</strong> {{ model.remark }}
  </p>
  <p v-if="source" class="mb-2 text-soft">Reduced from model {{ letter(source.number) }}.</p>
  <table class="mb-1 w-full" aria-label="Parameters">
    <thead class="text-[12px] text-soft">
      <tr>
        <th class="text-left font-normal">parameter</th>
        <th class="text-right font-normal">value</th>
        <th class="text-right font-normal">± std. error</th>
        <th class="pl-2 text-left font-normal">unit</th>
      </tr>
    </thead>
    <tbody>
      <template v-for="group in groups" :key="group.way">
        <tr v-if="group.way" class="border-t border-rule">
          <th class="pt-2 text-left font-semibold" colspan="4" scope="rowgroup">{{ group.way }}</th>
        </tr>
        <tr
          v-for="parameter in group.parameters"
          :key="`${parameter.input} ${parameter.name}`"
          class="border-t border-rule"
          :title="
            parameter.interval
              ? `95 %: ${number(parameter.interval[0], 4)} to ${number(parameter.interval[1], 4)} ${parameter.unit}`
              : ''
          "
        >
          <td class="py-[3px]" :class="parameter.name.length > 2 ? 'first-letter:uppercase' : ''">
            {{ inWords(parameter.name) }}
            <span
              v-if="parameter.input && parameter.input !== model.model.inputs[0]?.tag"
              class="text-[12px] text-soft"
            >
              {{ parameter.input }}
            </span>
          </td>
          <td v-if="untold.has(parameter.name)" class="text-right text-caution" colspan="2">not told</td>
          <td v-else class="text-right text-[15px] font-semibold">
            {{ withError(parameter.value, parameter.standard_error)[0] }}
          </td>
          <td v-if="!untold.has(parameter.name)" class="text-right">
            {{ parameter.fixed ? "given" : withError(parameter.value, parameter.standard_error)[1] }}
          </td>
          <td class="pl-2 text-soft">{{ parameter.unit }}</td>
        </tr>
      </template>
      <tr v-if="model.model.matrices" class="border-t border-rule">
        <td class="py-[3px]" colspan="4">
          {{ plural(model.model.matrices.a.length, "state") }},
          {{ plural(model.model.inputs.length, "input") }},
          {{ plural(model.model.outputs.length, "output") }}; singular values
          {{
            model.model.matrices.singular_values
              .slice(0, 8)
              .map((value) => number(value, 3))
              .join(" · ")
          }}
        </td>
      </tr>
    </tbody>
  </table>
  <table v-if="stretches.length" class="mt-2 w-full" aria-label="Stretches of the fit">
    <thead class="text-[12px] text-soft">
      <tr>
        <th class="text-left font-normal">fitted together</th>
        <th class="text-right font-normal">rests at, {{ unit }}</th>
        <th class="text-right font-normal">fit, %</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(stretch, k) in stretches" :key="k" class="border-t border-rule">
        <td class="py-[3px]">
          <button
            type="button"
            class="text-left underline decoration-rule underline-offset-2"
            :class="stretch.record_id === shown ? 'font-semibold' : ''"
            :aria-pressed="stretch.record_id === shown"
            @click="emit('record', stretch.record_id)"
          >
            {{ stretch.name }}
          </button>
          <span class="ml-1 text-[12px] text-soft">
            {{ duration(stretch.from) }} to {{ duration(stretch.to) }}</span
          >
        </td>
        <td class="text-right">{{ number(stretch.level, 4) }}</td>
        <td class="text-right">{{ number(stretch.fit, 4) }}</td>
      </tr>
    </tbody>
  </table>
  <table v-if="foundSteps.length" class="mt-2 w-full" aria-label="Steps that nothing measured explains">
    <thead class="text-[12px] text-soft">
      <tr>
        <th class="text-left font-normal">step not explained, at</th>
        <th class="text-right font-normal">size</th>
        <th class="text-right font-normal">± std. error</th>
        <th class="pl-2 text-left font-normal">unit</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="step in foundSteps" :key="step.at" class="border-t border-rule">
        <td class="py-[3px]">{{ duration(model.window_from + step.at) }}</td>
        <td class="text-right">{{ withError(step.size, step.standard_error)[0] }}</td>
        <td class="text-right">{{ withError(step.size, step.standard_error)[1] }}</td>
        <td class="pl-2 text-soft">{{ unit }}</td>
      </tr>
    </tbody>
  </table>
  <table v-if="ofOutputs.length" class="mt-2 w-full" aria-label="Agreement of each output">
    <thead class="text-[12px] text-soft">
      <tr>
        <th class="text-left font-normal">agreement, simulated</th>
        <th class="text-right font-normal">fitted, %</th>
        <th class="text-right font-normal">new, %</th>
        <th class="pl-2 text-right font-normal">residual</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in ofOutputs" :key="one.tag" class="border-t border-rule">
        <td class="py-[3px]">{{ one.tag }}</td>
        <td class="text-right">{{ number(one.fitted.fit_simulated, 4) }}</td>
        <td class="text-right font-semibold">{{ number(one.held?.fit_simulated, 4) }}</td>
        <td class="pl-2 text-right">
          {{ number(one.fitted.residual_deviation) }} <span class="text-soft">{{ one.unit }}</span>
        </td>
      </tr>
    </tbody>
  </table>
  <table v-else class="mt-2 w-full" aria-label="Agreement">
    <thead class="text-[12px] text-soft">
      <tr>
        <th class="text-left font-normal">agreement</th>
        <th class="text-right font-normal">fitted</th>
        <th class="text-right font-normal">new data</th>
        <th class="pl-2 text-left font-normal">unit</th>
      </tr>
    </thead>
    <tbody>
      <tr class="border-t border-rule">
        <td class="py-[3px]">simulated</td>
        <td class="text-right">{{ number(model.model.estimation.fit_simulated, 4) }}</td>
        <td class="text-right text-[15px] font-semibold">
          {{ number(validation?.performance.fit_simulated, 4) }}
        </td>
        <td class="pl-2 text-soft">%</td>
      </tr>
      <tr class="border-t border-rule">
        <td class="py-[3px]">one sample ahead</td>
        <td class="text-right">{{ number(model.model.estimation.fit_one_step, 4) }}</td>
        <td class="text-right">{{ number(validation?.performance.fit_one_step, 4) }}</td>
        <td class="pl-2 text-soft">%</td>
      </tr>
      <tr class="border-t border-rule">
        <td class="py-[3px]">residual</td>
        <td class="text-right">{{ number(model.model.estimation.residual_deviation) }}</td>
        <td class="text-right">{{ number(validation?.performance.residual_deviation) }}</td>
        <td class="pl-2 text-soft">{{ unit }}</td>
      </tr>
      <tr v-if="model.model.criteria" class="border-t border-rule" title="Less is better, on the same data">
        <td class="py-[3px]">AIC, BIC</td>
        <td class="text-right" colspan="2">
          {{ number(model.model.criteria.aic, 5) }}, {{ number(model.model.criteria.bic, 5) }}
        </td>
        <td class="pl-2 text-[12px] text-soft">{{ plural(model.model.criteria.parameters, "parameter") }}</td>
      </tr>
      <tr v-if="model.model.noise" class="border-t border-rule" :title="noiseTitle">
        <td class="py-[3px]">noise {{ model.model.noise.integrated ? "of moves" : "" }}</td>
        <td class="text-right" colspan="2">
          order {{ model.model.noise.coefficients.length }}, deviation
          {{ number(model.model.noise.deviation) }}
        </td>
        <td class="pl-2 text-soft">{{ unit }}</td>
      </tr>
    </tbody>
  </table>
  <hr class="my-3 border-dashed border-rule" />
  <div class="grid gap-2">
    <label class="grid gap-1">
      <span>{{ model.chosen ? "Chosen as the model, because" : "Choose it as the model, because" }}</span>
      <textarea v-model="reason" class="entry min-h-[44px] w-full" maxlength="1000" rows="2" />
    </label>
    <button
      type="button"
      class="button justify-self-start"
      :disabled="model.chosen && reason === model.reason"
      @click="choose"
    >
      {{ model.chosen ? "Keep the reason" : "Choose it" }}
    </button>
    <button
      v-if="physical"
      type="button"
      class="button justify-self-start"
      title="a further fit that begins with these values"
      @click="emit('further')"
    >
      Fit on from here
    </button>
    <div v-if="!ofOutputs.length && !physical" class="mt-2 grid grid-cols-[auto_1fr_auto] items-center gap-2">
      <span>Reduce to</span>
      <select v-model="target" class="entry w-full" aria-label="Reduce to" @change="reduction = null">
        <option v-for="[key, words] in targets" :key="key" :value="key">{{ words }}</option>
      </select>
      <button type="button" class="button" @click="reduce(false)">Try</button>
    </div>
    <template v-if="reduction">
      <p>
        <span
          v-for="parameter in reduction.model.parameters"
          :key="parameter.name"
          class="mr-3 whitespace-nowrap"
        >
          {{ inWords(parameter.name) }}
          <strong class="font-semibold">{{ number(parameter.value, 4) }}</strong> {{ parameter.unit }}
        </span>
      </p>
      <ol class="text-[12.5px] text-soft">
        <li v-for="step in reduction.steps" :key="step">{{ step }}</li>
      </ol>
      <VerdictNote v-for="verdict in reduction.model.verdicts" :key="verdict.text" :verdict="verdict" />
      <button type="button" class="button justify-self-start" @click="reduce(true)">
        Keep it in the trail
      </button>
    </template>
    <p v-if="problem" class="border-l-[3px] border-limit bg-limit/8 py-1 pl-3" role="alert">{{ problem }}</p>
  </div>
</template>
