/** Figures of any signal as columns of the trail: asked for each trial once, since the same trial gives the same figure. */
import { shallowReactive } from "vue";
import { answered, api, type Schemas, type TrialRow } from "../api/client";
import { useKept } from "../lib/kept";
import type { LoopState } from "../lib/loop";

type Metrics = Schemas["SignalMetrics"];

/** How each figure is read off, and the unit it has besides that of its signal. */
export const READS: Record<
  string,
  { read: (m: Metrics) => number | null | undefined; unit: (u: string) => string }
> = {
  mean: { read: (m) => m.mean, unit: (u) => u },
  "standard deviation": { read: (m) => m.standard_deviation, unit: (u) => u },
  lowest: { read: (m) => m.lowest, unit: (u) => u },
  highest: { read: (m) => m.highest, unit: (u) => u },
  travel: { read: (m) => m.travel, unit: (u) => u },
  reversals: { read: (m) => m.reversals, unit: () => "" },
  used: { read: (m) => m.used?.amount, unit: () => "" },
  IAE: { read: (m) => m.integral_absolute_error, unit: (u) => `${u}·s` },
  ISE: { read: (m) => m.integral_squared_error, unit: (u) => `${u}²·s` },
  ITAE: { read: (m) => m.integral_time_absolute_error, unit: (u) => `${u}·s²` },
  "maximum deviation": { read: (m) => m.max_deviation, unit: (u) => u },
  offset: { read: (m) => m.offset, unit: (u) => u },
  "time outside": { read: (m) => m.outside?.time, unit: () => "s" },
  "area outside": { read: (m) => m.outside?.area, unit: (u) => `${u}·s` },
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

  function toggle(name: string, question: Schemas["Question"], unit: string) {
    const others = list.value.filter((kpi) => kpi.name !== name || kpi.question.tag !== question.tag);
    const isNew = others.length === list.value.length;
    const key = `kpi ${name} ${JSON.stringify(question)}`;
    const own: Kpi = {
      key,
      name,
      title: `${question.tag} ${name}`,
      unit: READS[name]?.unit(unit) ?? "",
      question,
    };
    list.value = isNew ? [...others, own] : others;
  }

  /** The figure of a row; null until it is there, or where the trial has no such signal. */
  function valueOf(row: TrialRow, kpi: Kpi): number | null | undefined {
    const key = `${row.id} ${JSON.stringify(kpi.question)}`;
    const known = answers.get(key);
    if (known === undefined) {
      answers.set(key, null);
      void answered(api.POST("/api/v1/metrics", { body: { trial: row.trial, question: kpi.question } }))
        .then((found) => answers.set(key, found))
        .catch(() => undefined);
      return null;
    }
    return known === null ? null : READS[kpi.name]?.read(known);
  }

  return { list, has, toggle, valueOf };
}
