/** Proofs: what is drawn of them, and the draft that is carried out next. */
import type { Schemas, TrialRow } from "../api/client";
import { duration, letter, number, plural } from "../lib/format";

export type Proof = Schemas["Proof"];
export type ProofRow = Schemas["ProofRow"];
export type ProofResult = Schemas["ProofResult"];
export type ProvingSet = Schemas["ProvingSet"];
export type Disturbance = Schemas["Disturbance"];
export type Criterion = Schemas["Criterion"];
export type Figure = Schemas["Figure"];
export type Cell = Schemas["ProofCell"];
export type Share = Schemas["Share"];
export type Told = Schemas["CriterionTold"];

/** A value of a figure; one that was never reached has none. */
export function said(value: number | null | undefined, told: { unit: string; figure: Figure }): string {
  if (value === null || value === undefined) return told.figure.kind === "recovery_time" ? "never" : "no end";
  return told.unit === "s" ? duration(value) : number(value);
}

/** The same with its unit. */
export function saidWithUnit(
  value: number | null | undefined,
  told: { unit: string; figure: Figure },
): string {
  const text = said(value, told);
  return value == null || told.unit === "s" || !told.unit ? text : `${text} ${told.unit}`;
}

/** A share as it is read: 100 % only where none fails. */
export function percent(share: Share): string {
  const value = (100 * share.passes) / share.of;
  return share.passes === share.of ? "100 %" : `${number(Math.min(Math.floor(10 * value) / 10, 99.9))} %`;
}

/** The candidate that stands first, and how it does: for the step and the row of a proof. */
export function best(result: ProofResult): { name: string; text: string } | null {
  const first = result.order[0];
  if (first === undefined || result.limited === 0) return null;
  const share = result.shares[first];
  const name = result.candidates[first] ?? "";
  return { name, text: share ? percent(share) : `${result.kept[first]} of ${result.limited}` };
}

/** How far a proof is, in words: `42 %, 21 of 50 pieces by 2 workers`. */
export function howFar(state: Schemas["ProofState"]): string {
  if (state.pieces === 0) return "waits for a worker";
  const pieces = `${state.pieces_done} of ${plural(state.pieces, "piece")}`;
  return `${Math.round(100 * state.share)} %, ${pieces} by ${plural(Math.max(1, state.workers), "worker")}`;
}

/** What a row of the trail is called as a candidate. */
export const nameOf = (row: TrialRow) => letter(row.number);

/** The trial of the trail that a candidate came from, where it is still there as it was. */
export function trialOf(trials: TrialRow[], contender: Schemas["Contender"]): TrialRow | null {
  const own = JSON.stringify(contender.candidate);
  return (
    trials.find((row) => nameOf(row) === contender.name && JSON.stringify(row.trial.candidate) === own) ??
    null
  );
}

/** Candidates of rows of the trail; a scan of its own where it is another one. */
export function contenders(rows: TrialRow[], scan: number): Schemas["Contender"][] {
  return rows.map((row) => ({
    name: nameOf(row),
    candidate: row.trial.candidate,
    ...(row.trial.scenario.scan === scan ? {} : { scan: row.trial.scenario.scan }),
  }));
}

/** A trial of the first candidate of a draft on its plant, in which nothing happens; null where there is none. */
export function trialOfDraft(draft: Proof): Schemas["Trial"] | null {
  const first = draft.candidates[0];
  if (!first) return null;
  const scan = first.scan ?? draft.scan;
  const scenario = { duration: 100 * scan, scan, seed: draft.seed ?? 0, events: [] };
  return { version: 1, plant: draft.plant, candidate: first.candidate, scenario };
}

/** Takes disturbances into a set: each in the place of what has its name, or behind the others. */
export function takenIn(set: ProvingSet, found: Disturbance[]) {
  for (const one of found) {
    const known = set.disturbances.findIndex((own) => own.name === one.name);
    if (known < 0) set.disturbances.push(one);
    else set.disturbances[known] = one;
  }
}

/** The rows that a proof begins with: the pinned one first, as it runs, then the newest others on the same plant. */
export function firstRows(trials: TrialRow[], base: TrialRow): TrialRow[] {
  const plant = JSON.stringify(base.trial.plant);
  const own = new Set([JSON.stringify(base.trial.candidate)]);
  const others = trials.filter((row) => {
    const text = JSON.stringify(row.trial.candidate);
    const isNew = !own.has(text) && JSON.stringify(row.trial.plant) === plant;
    if (isNew) own.add(text);
    return isNew && row.trial.candidate.controller.kind !== "manual";
  });
  return [base, ...others.slice(0, 3)];
}

/** A name that none of these is: with a number after it where it is taken. */
export function freeName(name: string, taken: string[]): string {
  if (!taken.includes(name)) return name;
  let count = 2;
  while (taken.includes(`${name} (${count})`)) count += 1;
  return `${name} (${count})`;
}

/** How large a proof is, in words. */
export function sizeText(proof: Proof): string {
  const plants = proof.uncertainty && "plants" in proof.uncertainty ? proof.uncertainty.plants : 0;
  const parts = [
    plural(proof.set.disturbances.length, "disturbance"),
    plural(proof.candidates.length, "candidate"),
    plants ? plural(plants, "plant") : "the plant as it is",
  ];
  return parts.join(" × ");
}
