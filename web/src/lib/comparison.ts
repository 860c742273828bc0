import type { Schemas } from "../api/client";
import { number } from "./format";

type Assessment = Schemas["Assessment"];

/** A metric of the trail: how it is read, and which way is better. */
export interface Metric {
  key: string;
  title: string;
  unit: string;
  read: (assessment: Assessment) => number | null | undefined;
  better: "lower" | "higher";
}

export function metricsFor(pvUnit: string): Metric[] {
  const load = (assessment: Assessment) => assessment.metrics.load_responses[0];
  const step = (assessment: Assessment) => assessment.metrics.set_point_responses[0];
  const margins = (assessment: Assessment) => assessment.margins;
  return [
    {
      key: "iae",
      title: "load IAE",
      unit: `${pvUnit}·s`,
      read: (a) => load(a)?.integral_absolute_error,
      better: "lower",
    },
    {
      key: "deviation",
      title: "max. deviation",
      unit: pvUnit,
      read: (a) => (load(a) ? Math.abs(load(a)?.max_deviation ?? 0) : null),
      better: "lower",
    },
    {
      key: "recovery",
      title: "back within band",
      unit: "s",
      read: (a) => load(a)?.recovery_time,
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
    },
  ];
}

/** How a value stands against the pinned one: the difference in words, and whether it is better. */
export function against(
  metric: Metric,
  value: number | null | undefined,
  pinned: number | null | undefined,
): { text: string; better: boolean } | null {
  if (value === null || value === undefined || pinned === null || pinned === undefined) return null;
  const change = value - pinned;
  if (Math.abs(change) < 5e-3 * Math.max(Math.abs(pinned), 1e-9)) return null;
  const better = metric.better === "lower" ? change < 0 : change > 0;
  return { text: `${change > 0 ? "▲" : "▼"}${number(Math.abs(change), 2)}`, better };
}
