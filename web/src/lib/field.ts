/** A number that can be set, as `NumberField` shows it. */
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
  /** What the server refused about it. */
  problem?: string;
  /** Times may be typed as `2 h`, `36:10`, `3 d`. */
  isTime?: boolean;
}

/** Hands a number on; an entry left empty changes nothing. */
export function whenGiven(take: (value: number) => void): (value: number | null) => void {
  return (value) => {
    if (value !== null) take(value);
  };
}
