/** What is handed over, as the server tells it of the trials and proofs of a loop. */
import type { TrialRow } from "../api/client";
import type { LoopState } from "../lib/loop";
import type { ProofRow } from "../prove/proof";

type Known = Pick<LoopState, "handOver" | "trials" | "proofs">;

export interface Evidence {
  /** Number of the proof. */
  number: number;
  /** Place of the candidate in it. */
  column: number;
  /** The proof, where it is among those that were fetched. */
  proof: ProofRow | null;
}

/** The newest proof in which the candidate of a trial was held. */
export function evidenceOf({ handOver, proofs }: Known, row: TrialRow): Evidence | null {
  const found = handOver.proven.find((own) => own.trial === row.number);
  if (!found) return null;
  const proof = proofs.find((own) => own.number === found.proof) ?? null;
  return { number: found.proof, column: found.place, proof };
}

/** The trial with which the step begins. */
export function firstTrial({ handOver, trials }: Known): TrialRow | null {
  return trials.find((row) => row.id === handOver.proposed?.id) ?? null;
}
