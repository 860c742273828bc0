<script setup lang="ts">
/** Hand over: the settings in the form and units of the controller that they are typed into, with what stands behind them. */
import { computed, nextTick, ref, shallowRef, watch } from "vue";
import { answered, api, messageOf, type Schemas, type TrialRow } from "../api/client";
import ProblemNote from "../components/ProblemNote.vue";
import StateNotice from "../components/StateNotice.vue";
import StepFrame from "../components/StepFrame.vue";
import TrailTable from "../components/TrailTable.vue";
import VerdictNote from "../components/VerdictNote.vue";
import ViewTabs from "../components/ViewTabs.vue";
import { useNotation } from "../control/useNotation";
import { choiceToMake, staleBehind, useAnew } from "../handover/anew";
import { evidenceOf, firstTrial } from "../handover/handover";
import TargetFields from "../handover/TargetFields.vue";
import DossierMargin from "../handover/DossierMargin.vue";
import { useDossier } from "../handover/useDossier";
import { dateText, letter, number } from "../lib/format";
import { useKept } from "../lib/kept";
import { comebacks } from "../lib/live";
import { useLoop } from "../lib/loop";
import { tell } from "../lib/notes";
import { plain } from "../lib/plain";
import { useSelected } from "../lib/query";
import { percent, saidWithUnit } from "../prove/proof";

const loop = useLoop();
const { state } = loop;
const selected = useSelected("trial");
const row = computed(() => state.trials.find((one) => one.id === selected.value) ?? firstTrial(state));
const evidence = computed(() => (row.value ? evidenceOf(state, row.value) : null));
// What is proposed can be older than all that was fetched.
watch(
  () => state.handOver.proposed,
  (proposed) => {
    if (!proposed || selected.value || state.trials.some((one) => one.id === proposed.id)) return;
    selected.value = proposed.id;
    void nextTick(loop.refreshTrials);
  },
  { immediate: true },
);
const { notation } = useNotation();
const digits = useKept("count of digits", () => 4);
const VIEWS = [
  { key: "settings", title: "Settings" },
  { key: "text", title: "Structured Text" },
  { key: "dossier", title: "Dossier" },
];
const chosenView = useSelected("view");
const view = computed({
  get: () => VIEWS.find((known) => known.key === chosenView.value)?.key ?? "settings",
  set: (key) => (chosenView.value = key === "settings" ? null : key),
});

// --- settings as they are typed in ---

const handed = shallowRef<Schemas["HandedOver"] | null>(null);
const refusal = ref("");
/** Whether what stands there is still being written anew. */
const isPending = ref(false);
let asked = 0;
watch(
  // Stale parts come by what is upstream.
  [row, () => evidence.value?.number, notation, digits, () => state.models, () => state.records, comebacks],
  async ([own], [before]) => {
    const mine = ++asked;
    // The settings of one candidate never stand under the name of another.
    if (own?.id !== before?.id) handed.value = null;
    if (!own) return;
    isPending.value = true;
    try {
      const params = { path: { tag: state.tag, trial: own.number } };
      const body = {
        notation: { ...notation.value },
        digits: digits.value,
        proof: evidence.value?.number ?? null,
      };
      const found = await answered(api.POST("/api/v1/loops/{tag}/hand-over/{trial}", { params, body }));
      if (mine !== asked) return;
      handed.value = found;
      refusal.value = "";
    } catch (error) {
      if (mine !== asked) return;
      handed.value = null;
      refusal.value = messageOf(error);
    }
    isPending.value = false;
  },
  { immediate: true },
);
// --- what is stale, made anew ---

const anew = useAnew(loop);
const stale = computed(() =>
  row.value ? staleBehind(state, row.value, evidence.value?.proof ?? null) : null,
);
const choice = computed(() => (row.value ? choiceToMake(state, row.value) : null));
async function makeAnew() {
  if (!row.value || !stale.value || anew.stage.value) return;
  const kept = await anew.make(row.value, stale.value, evidence.value?.column ?? 0);
  if (kept) selected.value = kept.id;
}

const sheets = computed(() => handed.value?.typed.sheets ?? []);
const warnings = computed(() => handed.value?.warnings ?? []);

/** What the numbers that are typed mean, as a trial of its own: rounding is part of what is handed over. */
async function keepAsTyped() {
  const [from, typed] = [row.value, handed.value?.typed];
  if (!from || !typed || isPending.value) return;
  try {
    const kept = await answered(
      api.POST("/api/v1/loops/{tag}/trials", {
        params: { path: { tag: state.tag } },
        body: {
          trial: typed.trial,
          model_id: from.model_id ?? null,
          changed_from: from.id,
          label: `${letter(from.number)} as typed in, ${digits.value} digits`,
        },
      }),
    );
    await loop.refreshTrials();
    selected.value = kept.id;
    tell(`Kept: ${kept.label}. Prove it as it is typed.`);
  } catch (error) {
    tell(messageOf(error));
  }
}

// --- as text ---

const text = shallowRef<Schemas["ControllersAsText"] | null>(null);
const textFailure = ref("");
watch(
  [() => row.value?.id, view, comebacks],
  async () => {
    const from = row.value;
    if (!from || view.value !== "text") return;
    try {
      text.value = await answered(api.POST("/api/v1/hand-over/structured-text", { body: plain(from.trial) }));
      textFailure.value = "";
    } catch (error) {
      text.value = null;
      textFailure.value = messageOf(error);
    }
  },
  { immediate: true },
);
const wholeText = computed(() => {
  const { blocks = [], remarks = [], without = [] } = text.value ?? {};
  return [
    ...[...remarks, ...without].map((one) => `(* ${one} *)`),
    ...blocks.map((block) => block.text),
  ].join("\n");
});
const xmlFile = computed(
  () => `data:application/xml;charset=utf-8,${encodeURIComponent(text.value?.plcopen ?? "")}`,
);
const textFile = computed(() => `data:text/plain;charset=utf-8,${encodeURIComponent(wholeText.value)}`);

// --- the dossier ---

const dossier = useDossier(state.tag, () => state.detail?.id);
/** The page anew whenever what is written, or what it is made from, changes. */
const dossierPage = computed(() => {
  const made = [dossier.revision.value, state.models, state.trials, state.proofs].map((own) =>
    typeof own === "number"
      ? own
      : own.map((one) => `${one.number}${"revision" in one ? `.${String(one.revision)}` : ""}`).join(),
  );
  return `/api/v1/loops/${encodeURIComponent(state.tag)}/dossier/export?form=page#${made.join("-")}`;
});

// --- what stands behind it ---

const model = computed(() => state.models.find((one) => one.id === row.value?.model_id) ?? null);
const margins = computed(() => row.value?.assessment.margins ?? null);
const proven = computed(() => {
  const found = evidence.value;
  if (!found?.proof) return [];
  const { rows, cells } = found.proof.result;
  return rows.map((line, r) => {
    const cell = cells[r]?.[found.column];
    const limited = line.criteria.flatMap((told, k) => {
      const spread = cell?.figures[k];
      return told.most == null || !spread
        ? []
        : [`${told.title} ${saidWithUnit(spread.worst, told)} of ${saidWithUnit(told.most, told)}`];
    });
    return {
      name: line.name,
      figures: limited.join("; "),
      passed: cell?.passes ?? null,
      share: cell?.share ? percent(cell.share) : "",
    };
  });
});
const columns = [
  { key: "mark", title: "Candidate", text: true },
  { key: "label", title: "of trial", text: true },
  { key: "kind", title: "controllers" },
  { key: "proof", title: "proven", text: true },
];
function provenText(one: TrialRow): string {
  const found = evidenceOf(state, one);
  if (!found) return "not yet";
  if (!found.proof) return `proof ${found.number}`;
  const share = found.proof.result.shares[found.column];
  const holds = found.proof.result.holds[found.column];
  const how = share ? percent(share) : holds == null ? "no limit" : holds ? "passes" : "fails";
  return `proof ${found.number}: ${how}`;
}
const print = () => window.print();
const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);
</script>

<template>
  <StepFrame>
    <template #strip>
      <StateNotice v-if="!row" kind="empty" title="Nothing to hand over yet">
        <p>Settings come out of a trial.</p>
        <RouterLink class="button mt-3 inline-block" :to="{ name: 'control' }"
          >Make one at Control</RouterLink
        >
      </StateNotice>
      <div v-else class="flex h-full min-h-0 flex-col pl-2">
        <ViewTabs v-model="view" :views="VIEWS" label="Views of what is handed over" class="pb-1" />
        <div
          v-if="view === 'settings'"
          class="min-h-0 flex-1 overflow-auto pr-6 pb-4"
          tabindex="0"
          role="group"
          aria-label="What is handed over"
        >
          <h1 class="heading">{{ state.tag }} {{ state.detail?.name }}</h1>
          <p class="mb-3 text-[12.5px] text-soft">
            Candidate {{ letter(row.number) }}: {{ row.label }}, made {{ dateText(row.created_at)
            }}<template v-if="model">, on model {{ letter(model.number) }}</template
            >, scanned every {{ number(row.trial.scenario.scan) }} s; the span of the PV is
            {{ number(row.trial.plant.pv.span.low) }} to {{ number(row.trial.plant.pv.span.high) }}
            {{ row.trial.plant.pv.span.unit }}.
          </p>
          <div
            class="grid grid-cols-[auto_minmax(0,1fr)] items-start gap-x-8 gap-y-4 max-[1100px]:grid-cols-1"
          >
            <div class="grid gap-4">
              <ProblemNote :text="refusal" />
              <section v-for="sheet in sheets" :key="sheet.name" :aria-label="`Settings of ${sheet.name}`">
                <h2 class="mb-1 font-semibold">{{ sheet.name }}, {{ sheet.title }}, to type in</h2>
                <ProblemNote :text="sheet.refusal" />
                <table class="border-collapse text-[13px]">
                  <tbody>
                    <tr v-for="one in sheet.rows" :key="one.name" class="border-t border-rule">
                      <th scope="row" class="py-[3px] pr-6 text-left font-normal">{{ capital(one.name) }}</th>
                      <td class="text-right text-[17px] font-semibold tabular-nums">{{ one.text }}</td>
                      <td class="pl-2 text-soft">{{ one.unit }}</td>
                    </tr>
                    <tr v-for="{ name, value } in sheet.others" :key="name" class="border-t border-rule">
                      <th scope="row" class="py-[3px] pr-6 text-left font-normal">{{ name }}</th>
                      <td colspan="2" class="py-[3px]">{{ value }}</td>
                    </tr>
                  </tbody>
                </table>
              </section>
              <section v-if="handed?.typed.wiring.length" aria-label="How they work together">
                <h2 class="mb-1 font-semibold">How they work together</h2>
                <p
                  v-for="sentence in handed.typed.wiring"
                  :key="sentence"
                  class="mb-1 max-w-[60ch] text-[13px]"
                >
                  {{ sentence }}
                </p>
              </section>
            </div>
            <section aria-label="What stands behind it">
              <h2 class="mb-1 font-semibold">What stands behind it</h2>
              <VerdictNote
                v-for="warning in warnings"
                :key="warning.text"
                :verdict="warning"
                class="mb-1 text-[13px]"
              />
              <div v-if="stale" class="mb-2 text-[13px]">
                <button type="button" class="button" :disabled="anew.stage.value !== ''" @click="makeAnew">
                  Make it anew
                </button>
                <span class="ml-2 text-soft" role="status">{{
                  anew.stage.value ? `${anew.stage.value} …` : `In one go ${stale.words}.`
                }}</span>
              </div>
              <p
                v-if="anew.failure.value"
                class="mb-2 border-l-[3px] border-limit bg-limit/8 py-1 pl-3 text-[13px]"
                role="alert"
              >
                {{ anew.failure.value }}
              </p>
              <p v-if="choice" class="mb-2 text-[13px] text-soft">
                Model {{ letter(choice.chosen.number) }}, which is chosen, is stale itself:
                <RouterLink
                  class="underline decoration-rule underline-offset-2 hover:text-ink"
                  :to="{ name: 'model', query: { model: choice.own.id } }"
                  >choose model {{ letter(choice.own.number) }}</RouterLink
                >, if it is to stand.
              </p>
              <p v-if="margins?.stable" class="mb-2 text-[13px]">
                Gain margin {{ number(margins.gain_margin) }}, phase margin
                {{ number(margins.phase_margin) }}°, delay margin {{ number(margins.delay_margin) }} s,
                maximum sensitivity {{ number(margins.max_sensitivity) }}.
              </p>
              <template v-if="evidence?.proof">
                <p class="mb-1 text-[13px]">
                  Proof {{ evidence.proof.number }}, “{{ evidence.proof.label }}”,
                  {{ dateText(evidence.proof.created_at) }}:
                </p>
                <table class="w-full border-collapse text-[12.5px]">
                  <tbody>
                    <tr v-for="one in proven" :key="one.name" class="border-t border-rule align-top">
                      <td class="py-[2px] pr-2 whitespace-nowrap">
                        <span v-if="one.passed === false" class="text-limit">▲ fails</span>
                        <span v-else>{{ one.passed === null ? "–" : "passes" }}</span>
                        <span class="ml-1 text-soft">{{ one.share }}</span>
                      </td>
                      <td class="py-[2px]">
                        {{ one.name }}<span class="block text-soft">{{ one.figures }}</span>
                      </td>
                    </tr>
                  </tbody>
                </table>
              </template>
            </section>
          </div>
        </div>
        <iframe
          v-else-if="view === 'dossier'"
          :key="dossierPage"
          class="min-h-0 flex-1 border border-rule bg-white"
          title="Dossier"
          sandbox="allow-same-origin"
          :src="dossierPage"
        />
        <div v-else class="flex min-h-0 flex-1 flex-col pr-3">
          <ProblemNote :text="textFailure" />
          <p
            v-for="remark in text?.remarks ?? []"
            :key="remark"
            class="mb-1 border-l-[3px] border-rule pl-3 text-[12.5px]"
          >
            {{ remark }}
          </p>
          <p
            v-for="one in text?.without ?? []"
            :key="one"
            class="mb-1 border-l-[3px] border-caution pl-3 text-[12.5px]"
          >
            △ {{ one }}
          </p>
          <pre
            v-if="text?.blocks.length"
            class="min-h-0 flex-1 overflow-auto border border-rule bg-sheet p-3 text-[12.5px] leading-[1.45]"
            tabindex="0"
            aria-label="Structured Text"
            >{{ text.blocks.map((block) => block.text).join("\n") }}</pre>
        </div>
      </div>
    </template>
    <template #margin>
      <template v-if="row">
        <h1 class="heading mb-2">Hand over {{ letter(row.number) }}</h1>
        <div v-if="view === 'settings'" class="grid gap-2">
          <p class="text-[12.5px] text-soft">As the controller on the plant takes them:</p>
          <TargetFields v-model:notation="notation" v-model:digits="digits" />
          <p class="text-[12.5px] text-soft">
            <template v-if="handed && !handed.typed.rounding"
              >The settings are typed as they were tried: nothing is rounded.</template
            ><template v-else
              >Rounding is part of what is handed over: keep the settings as they are typed, and prove
              those.</template
            >
          </p>
          <div class="flex flex-wrap gap-2">
            <button
              type="button"
              class="button"
              :disabled="isPending || !handed?.typed.rounding"
              @click="keepAsTyped"
            >
              Keep as typed in
            </button>
            <button type="button" class="button" @click="print">Print</button>
            <RouterLink class="button" :to="{ name: 'prove' }">Prove</RouterLink>
          </div>
        </div>
        <DossierMargin
          v-else-if="view === 'dossier'"
          :dossier="dossier"
          :tag="state.tag"
          :row="row"
          :proofs="state.proofs"
        />
        <div v-else class="grid gap-2">
          <p class="text-[12.5px] text-soft">
            A function block (IEC 61131-3) of each controller, with all that is chosen of it, and where
            several are wired to each other the block that calls them. It does what the simulation does, call
            by call. It is called once a scan by a task of {{ number(row.trial.scenario.scan) }} s. The first
            call takes over what stands, so that no output jumps.
          </p>
          <a
            v-if="text?.blocks.length"
            class="button justify-self-start"
            :href="textFile"
            :download="`${state.tag} ${letter(row.number)}.st`"
            >Save the text</a
          >
          <a
            v-if="text?.plcopen"
            class="button justify-self-start"
            :href="xmlFile"
            :download="`${state.tag} ${letter(row.number)}.xml`"
            title="All blocks as one project, as engineering tools read it"
            >Save as PLCopen XML</a
          >
        </div>
      </template>
    </template>
    <template v-if="evidence?.proof" #figures>
      <div class="grid gap-2">
        <VerdictNote
          v-for="verdict in evidence.proof.result.verdicts.filter(
            (one) => one.candidate === evidence?.column,
          )"
          :key="verdict.text"
          :verdict="verdict"
        />
      </div>
    </template>
    <template #trail>
      <TrailTable
        v-if="state.trials.length"
        label="Candidates"
        :rows="state.trials"
        :columns="columns"
        :name-of="(one) => `Candidate ${letter(one.number)}, ${one.label}`"
        :selected="row?.id ?? null"
        @select="selected = $event.id"
      >
        <template #mark="{ row: one }"
          ><strong class="font-semibold">{{ letter(one.number) }}</strong></template
        >
        <template #label="{ row: one }">{{ one.label }}</template>
        <template #kind="{ row: one }">{{ 1 + (one.trial.candidate.further?.length ?? 0) }}</template>
        <template #proof="{ row: one }">{{ provenText(one) }}</template>
      </TrailTable>
    </template>
  </StepFrame>
</template>
