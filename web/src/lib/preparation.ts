/** The steps of a preparation: what each is called, how it begins, and what is asked for it. */
import type { Schemas } from "../api/client";
import { duration, number } from "./format";

export type Step = Schemas["Step"];
export type Operation = Schemas["Operation"];

export interface Ask {
  key: string;
  title: string;
  unit?: string;
  /** Choices with their words; a number where there are none; `tag`, `text` for those. */
  choices?: [string, string][];
  kind?: "number" | "tag" | "text" | "boolean";
  optional?: boolean;
  /** The answer that makes this question idle. */
  unless?: string;
}

interface Form {
  title: string;
  asks: Ask[];
  begin: (view: [number, number], interval: number) => Operation;
}

const tag: Ask = { key: "tag", title: "of", kind: "tag" };

export const FORMS: Record<Operation["kind"], Form> = {
  window: {
    title: "Keep a window",
    asks: [
      { key: "from", title: "from", unit: "s" },
      { key: "to", title: "to", unit: "s" },
    ],
    begin: ([from, to]) => ({ kind: "window", from, to }),
  },
  cut_out: {
    title: "Cut a stretch out",
    asks: [
      { key: "from", title: "from", unit: "s" },
      { key: "to", title: "to", unit: "s" },
    ],
    begin: ([from, to]) => ({ kind: "cut_out", from, to }),
  },
  outliers: {
    title: "Replace outliers",
    asks: [
      tag,
      { key: "half_window", title: "neighbours on either side", unit: "samples" },
      { key: "threshold", title: "further than", unit: "× noise" },
      {
        key: "replacement",
        title: "by",
        choices: [
          ["median", "the median"],
          ["missing", "nothing"],
        ],
      },
    ],
    begin: () => ({ kind: "outliers", tag: null, half_window: 15, threshold: 4, replacement: "median" }),
  },
  fill_gaps: {
    title: "Fill gaps",
    asks: [
      { key: "longest", title: "up to", unit: "s" },
      {
        key: "fill",
        title: "with",
        choices: [
          ["line", "a straight line"],
          ["hold", "the last value"],
        ],
      },
    ],
    begin: (_, interval) => ({ kind: "fill_gaps", longest: 10 * interval, fill: "line" }),
  },
  split_at_gaps: {
    title: "Split at gaps",
    asks: [
      { key: "longer_than", title: "longer than", unit: "s" },
      { key: "part", title: "keep part", unit: "", optional: true },
    ],
    begin: (_, interval) => ({ kind: "split_at_gaps", longer_than: 20 * interval, part: null }),
  },
  resample: {
    title: "Resample",
    asks: [
      { key: "interval", title: "every", unit: "s" },
      {
        key: "method",
        title: "by",
        choices: [
          ["line", "straight lines"],
          ["mean", "means"],
        ],
      },
    ],
    begin: (_, interval) => ({ kind: "resample", interval: 2 * interval, method: "mean" }),
  },
  shift: {
    title: "Shift",
    asks: [tag, { key: "by", title: "by", unit: "its unit" }],
    begin: () => ({ kind: "shift", tag: null, by: 0 }),
  },
  remove: {
    title: "Remove mean or trend",
    asks: [
      tag,
      {
        key: "what",
        title: "remove",
        choices: [
          ["trend", "the trend"],
          ["offset", "the mean"],
        ],
      },
    ],
    begin: () => ({ kind: "remove", tag: null, what: "trend" }),
  },
  low_pass: {
    title: "Low-pass",
    asks: [
      { key: "all", title: "all channels alike", kind: "boolean" },
      { ...tag, unless: "all" },
      { key: "time_constant", title: "time constant", unit: "s" },
      {
        key: "order",
        title: "lags",
        choices: [
          ["1", "one"],
          ["2", "two"],
        ],
      },
      { key: "zero_phase", title: "forth and back (no delay)", kind: "boolean" },
    ],
    begin: (_, interval) => ({
      kind: "low_pass",
      tag: null,
      // A filter on one signal becomes part of the model.
      all: true,
      time_constant: 5 * interval,
      order: 1,
      zero_phase: true,
    }),
  },
  convert: {
    title: "Convert the unit",
    asks: [tag, { key: "unit", title: "to", kind: "text" }],
    begin: () => ({ kind: "convert", tag: null, unit: "" }),
  },
  compute: {
    title: "Compute a channel",
    asks: [
      { key: "tag", title: "new tag", kind: "text" },
      { key: "unit", title: "unit", kind: "text" },
      {
        key: "role",
        title: "as",
        choices: [
          ["dv", "DV"],
          ["pv", "PV"],
          ["op", "OP"],
          ["sp", "SP"],
          ["other", "other"],
        ],
      },
      { key: "formula", title: "formula, tags in {braces}", kind: "text" },
    ],
    begin: () => ({ kind: "compute", tag: "", unit: "", role: "dv", formula: "" }),
  },
};

/** A step in a few words. */
export function stepInWords(operation: Operation): string {
  const of = "tag" in operation && operation.tag ? ` of ${operation.tag}` : "";
  switch (operation.kind) {
    case "window":
      return `Keep ${duration(operation.from)} to ${duration(operation.to)}`;
    case "cut_out":
      return `Cut out ${duration(operation.from)} to ${duration(operation.to)}`;
    case "outliers":
      return `Outliers${of} beyond ${number(operation.threshold)} × noise`;
    case "fill_gaps":
      return `Fill gaps up to ${duration(operation.longest)}`;
    case "split_at_gaps":
      return `Split at gaps over ${duration(operation.longer_than)}`;
    case "resample":
      return `Resample every ${number(operation.interval)} s`;
    case "shift":
      return `Shift${of} by ${number(operation.by)}`;
    case "remove":
      return `Remove the ${operation.what === "trend" ? "trend" : "mean"}${of}`;
    case "low_pass":
      return `Low-pass${operation.all ? " of all channels" : of} ${number(operation.time_constant)} s`;
    case "convert":
      return `Convert${of} to ${operation.unit}`;
    case "compute":
      return `${operation.tag} = ${operation.formula}`;
  }
}
