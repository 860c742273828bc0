import type { Schemas, TrialRow } from "../api/client";
import { number } from "./format";

type Assessment = Schemas["Assessment"];

/** A metric of the trail: how it is read, and which way is better. */
export interface Metric {
  key: string;
  title: string;
  unit: string;
  read: (assessment: Assessment) => number | null | undefined;
  better: "lower" | "higher";
  /** Whether it is of the loop alone, whatever happens to it. */
  ofLoop?: boolean;
}

export function metricsFor(pvUnit: string): Metric[] {
  const loads = (assessment: Assessment) => assessment.metrics.loads;
  const step = (assessment: Assessment) => assessment.metrics.set_point_responses[0];
  const margins = (assessment: Assessment) => assessment.margins;
  return [
    {
      key: "iae",
      title: "load IAE",
      unit: `${pvUnit}·s`,
      read: (a) => loads(a)?.integral_absolute_error,
      better: "lower",
    },
    {
      key: "deviation",
      title: "max. deviation",
      unit: pvUnit,
      read: (a) => loads(a)?.max_deviation,
      better: "lower",
    },
    {
      key: "recovery",
      title: "back within band",
      unit: "s",
      read: (a) => loads(a)?.recovery_time,
      better: "lower",
    },
    {
      key: "settling",
      title: "settling ±5\u00a0%",
      unit: "s",
      read: (a) => step(a)?.settling_time_5,
      better: "lower",
    },
    {
      key: "overshoot",
      title: "overshoot",
      unit: "%",
      read: (a) => step(a)?.overshoot_percent,
      better: "lower",
    },
    { key: "travel", title: "OP travel", unit: "%", read: (a) => a.metrics.output_travel, better: "lower" },
    {
      key: "ms",
      title: "max. sensitivity",
      unit: "",
      read: (a) => margins(a)?.max_sensitivity,
      better: "lower",
      ofLoop: true,
    },
  ];
}

/** Which figures of a trial are others than they were, as they are read: `load IAE 75.6 → 76.1 °C·s`. */
export function changesOfFigures(before: Assessment, row: Pick<TrialRow, "trial" | "assessment">): string[] {
  const changes = allMetricsFor(row.trial.plant.pv.span.unit).flatMap((metric) => {
    const [was, is] = [metric.read(before), metric.read(row.assessment)].map(
      (value) => number(value) || "none",
    );
    return was === is ? [] : [`${metric.title} ${was} → ${is}${metric.unit ? ` ${metric.unit}` : ""}`];
  });
  return changes.length > 0 ? changes : ["figures differ beyond the digits that are shown"];
}

/** All that a sweep can be read by: the columns of the trail, and what has no room there. */
export function allMetricsFor(pvUnit: string): Metric[] {
  const margins = (assessment: Assessment) => assessment.margins;
  return [
    ...metricsFor(pvUnit),
    {
      key: "whole-iae",
      title: "IAE of the whole run",
      unit: `${pvUnit}·s`,
      read: (a) => a.metrics.integral_absolute_error,
      better: "lower",
    },
    {
      key: "ise",
      title: "ISE of the whole run",
      unit: `${pvUnit}²·s`,
      read: (a) => a.metrics.integral_squared_error,
      better: "lower",
    },
    {
      key: "itae",
      title: "ITAE of the whole run",
      unit: `${pvUnit}·s²`,
      read: (a) => a.metrics.integral_time_absolute_error,
      better: "lower",
    },
    {
      key: "rise",
      title: "rise 10–90\u00a0%",
      unit: "s",
      read: (a) => a.metrics.set_point_responses[0]?.rise_time,
      better: "lower",
    },
    {
      key: "reversals",
      title: "OP reversals",
      unit: "",
      read: (a) => a.metrics.output_reversals,
      better: "lower",
    },
    {
      key: "saturated",
      title: "time at a limit",
      unit: "s",
      read: (a) => a.metrics.saturated_time,
      better: "lower",
    },
    {
      key: "gain-margin",
      title: "gain margin",
      unit: "",
      read: (a) => margins(a)?.gain_margin,
      better: "higher",
      ofLoop: true,
    },
    {
      key: "phase-margin",
      title: "phase margin",
      unit: "°",
      read: (a) => margins(a)?.phase_margin,
      better: "higher",
      ofLoop: true,
    },
    {
      key: "delay-margin",
      title: "delay margin",
      unit: "s",
      read: (a) => margins(a)?.delay_margin,
      better: "higher",
      ofLoop: true,
    },
  ];
}

const texts = new WeakMap<object, string>();
/** A document as text, written once: rows of the trail are never altered. */
function written(document: object): string {
  const known = texts.get(document) ?? JSON.stringify(document);
  texts.set(document, known);
  return known;
}

/** Whether two trials can be held against each other: on one plant, and but for figures of the loop alone in one scenario. */
export function isComparable(metric: Metric, row: TrialRow, pinned: TrialRow): boolean {
  const same = (part: "plant" | "scenario") => written(row.trial[part]) === written(pinned.trial[part]);
  return same("plant") && (metric.ofLoop === true || same("scenario"));
}

/** How the figure of a trial stands against that of the pinned one: the difference in words, and whether it is better. */
export function against(
  metric: Metric,
  row: TrialRow,
  other: TrialRow,
): { text: string; better: boolean } | null {
  const [value, pinned] = [metric.read(row.assessment), metric.read(other.assessment)];
  if (value === null || value === undefined || pinned === null || pinned === undefined) return null;
  if (!isComparable(metric, row, other)) return null;
  const change = value - pinned;
  if (Math.abs(change) < 5e-3 * Math.max(Math.abs(pinned), 1e-9)) return null;
  const better = metric.better === "lower" ? change < 0 : change > 0;
  return {
    text: `${change > 0 ? "▲" : "▼"}${number(Math.abs(change), Math.abs(change) >= 100 ? 3 : 2)}`,
    better,
  };
}
