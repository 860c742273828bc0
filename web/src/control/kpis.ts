/** Figures of any signal as columns of the trail: asked for each trial once, since the same trial gives the same figure. */
import { shallowReactive } from "vue";
import { answered, api, type Schemas, type TrialRow } from "../api/client";
import { useKept } from "../lib/kept";
import type { LoopState } from "../lib/loop";

type Metrics = Schemas["SignalMetrics"];

/** How each figure is read off, and its unit. */
export const READS: Record<
  string,
  { read: (m: Metrics) => number | null | undefined; unit: (m: Metrics) => string }
> = {
  mean: { read: (m) => m.mean, unit: (m) => m.unit },
  "standard deviation": { read: (m) => m.standard_deviation, unit: (m) => m.unit },
  lowest: { read: (m) => m.lowest, unit: (m) => m.unit },
  highest: { read: (m) => m.highest, unit: (m) => m.unit },
  travel: { read: (m) => m.travel, unit: (m) => m.unit },
  reversals: { read: (m) => m.reversals, unit: () => "" },
  used: { read: (m) => m.used?.amount, unit: (m) => m.used?.unit ?? "" },
  IAE: { read: (m) => m.integral_absolute_error, unit: (m) => `${m.unit}·s` },
  ISE: { read: (m) => m.integral_squared_error, unit: (m) => `${m.unit}²·s` },
  ITAE: { read: (m) => m.integral_time_absolute_error, unit: (m) => `${m.unit}·s²` },
  "maximum deviation": { read: (m) => m.max_deviation, unit: (m) => m.unit },
  offset: { read: (m) => m.offset, unit: (m) => m.unit },
  "time outside": { read: (m) => m.outside?.time, unit: () => "s" },
  "area outside": { read: (m) => m.outside?.area, unit: (m) => `${m.unit}·s` },
  violations: { read: (m) => m.outside?.violations, unit: () => "" },
};

export interface Kpi {
  key: string;
  name: string;
  title: string;
  unit: string;
  question: Schemas["Question"];
}

const answers = shallowReactive(new Map<string, Metrics | null>());

export function useKpis(state: LoopState) {
  const list = useKept<Kpi[]>(`figures of ${state.tag}`, () => []);

  const has = (name: string, tag: string) =>
    list.value.some((kpi) => kpi.name === name && kpi.question.tag === tag);

  /** `measured` is what the question gives on the trial at hand. */
  function toggle(name: string, question: Schemas["Question"], measured: Metrics) {
    const others = list.value.filter((kpi) => kpi.name !== name || kpi.question.tag !== question.tag);
    const isNew = others.length === list.value.length;
    const key = `kpi ${name} ${JSON.stringify(question)}`;
    const own: Kpi = {
      key,
      name,
      title: `${question.tag} ${name}`,
      unit: READS[name]?.unit(measured) ?? "",
      question,
    };
    list.value = isNew ? [...others, own] : others;
  }

  /** What the question of a figure gives on a row; null until it is there, or where the trial has no such signal. */
  function answerOf(row: TrialRow, kpi: Kpi): Metrics | null {
    const key = `${row.id} ${JSON.stringify(kpi.question)}`;
    const known = answers.get(key);
    if (known === undefined) {
      answers.set(key, null);
      void answered(api.POST("/api/v1/metrics", { body: { trial: row.trial, question: kpi.question } }))
        .then((found) => answers.set(key, found))
        .catch(() => undefined);
      return null;
    }
    return known;
  }

  function valueOf(row: TrialRow, kpi: Kpi): number | null | undefined {
    const answer = answerOf(row, kpi);
    return answer && READS[kpi.name]?.read(answer);
  }

  /** The unit of a row's figure where it is not that of the column: of a plant that measures in another one. */
  function ownUnit(row: TrialRow, kpi: Kpi): string {
    const answer = answerOf(row, kpi);
    const unit = answer ? (READS[kpi.name]?.unit(answer) ?? "") : kpi.unit;
    return unit === kpi.unit ? "" : unit;
  }

  return { list, has, toggle, valueOf, ownUnit };
}
