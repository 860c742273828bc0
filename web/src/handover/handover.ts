/** What is handed over: the settings of every controller as they are typed in, and what stands behind them. */
import type { Schemas, Trial, TrialRow } from "../api/client";
import { loopsOf, wiredOf } from "../control/loops";
import { trialOf, type ProofRow } from "../prove/proof";

type Pid = Schemas["PidSettings"];

export interface Handed {
  /** Its key among the loops of the trial. */
  key: string;
  name: string;
  controller: Trial["candidate"]["controller"];
  pid: Pid | null;
}

/** The controllers of a trial. */
export function controllersOf(trial: Trial): Handed[] {
  return loopsOf(trial).map(({ key, name }) => {
    const controller = key
      ? (wiredOf(trial, key)?.controller ?? trial.candidate.controller)
      : trial.candidate.controller;
    if (controller.kind !== "pid") return { key, name, controller, pid: null };
    const { kind: _, ...pid } = controller;
    return { key, name, controller, pid };
  });
}

/** A number to so many digits, as it is typed. */
export const typed = (value: number, digits: number) => Number(value.toPrecision(digits));

/** The newest proof in which a candidate was held, and its column there. */
export function evidenceOf(proofs: ProofRow[], row: TrialRow): { proof: ProofRow; column: number } | null {
  for (const proof of proofs) {
    const column = proof.proof.candidates.findIndex((own) => trialOf([row], own) !== null);
    if (column >= 0) return { proof, column };
  }
  return null;
}

/** The trial with which the step begins: the best of the newest proof, else the one that is pinned, else the newest. */
export function firstTrial(proofs: ProofRow[], trials: TrialRow[]): TrialRow | null {
  const newest = proofs[0];
  const best = newest?.proof.candidates[newest.result.order[0] ?? 0];
  const proven = best ? trialOf(trials, best) : null;
  return proven ?? trials.find((row) => row.pinned) ?? trials[0] ?? null;
}

/** The trial with settings as they were typed in. */
export function withSettings(trial: Trial, key: string, pid: Pid): Trial {
  const next = structuredClone(trial);
  const controller = { ...pid, kind: "pid" as const };
  if (!key) next.candidate.controller = controller;
  else {
    const own = next.candidate.further?.find((wired) => wired.name === key);
    if (own) own.controller = controller;
  }
  return next;
}
