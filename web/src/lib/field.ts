/** A number that can be set, as `NumberField` shows it. */
import { RANGES } from "../api/ranges";
type Limits = Pick<Field, "min" | "max" | "exclusive">;

export interface Field {
  key: string;
  label: string;
  unit: string;
  value: number | null;
  set: (value: number | null) => void;
  range?: string;
  /** What it is, in a few words. */
  hint?: string;
  min?: number;
  max?: number;
  exclusive?: boolean;
  whenEmpty?: string;
  byRatio?: boolean;
  /** While it has the focus what half and twice of it would do is drawn. */
  halves?: boolean;
  /** What the server refused about it. */
  problem?: string;
}

/** Hands a number on; an entry left empty changes nothing. */
export function whenGiven(take: (value: number) => void): (value: number | null) => void {
  return (value) => {
    if (value !== null) take(value);
  };
}

type Ranges = typeof RANGES;

/** What the core allows for a number of a document. */
export function rangeOf<D extends keyof Ranges>(document: D, field: keyof Ranges[D]): Limits {
  return RANGES[document][field] as Limits;
}

/** The same where document and field are known only when it runs; nothing where no range is stated. */
export function rangeIn(document: string, field: string): Limits {
  const ranges = (RANGES as Record<string, Record<string, Limits>>)[document];
  return ranges?.[field] ?? {};
}
