/** What is handed over: the settings of every controller as they are typed in, and what stands behind them. */
import type { Schemas, Trial, TrialRow } from "../api/client";
import { loopsOf, wiredOf } from "../control/loops";
import { number } from "../lib/format";
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

/** What else is to be set beside gain and times, in words; what stands at its usual value as well, so that nothing is left open. */
export function furtherSettings(pid: Pid): [string, string][] {
  const weight = pid.set_point_weight ?? 1;
  const limits = pid.output_limits ?? { low: 0, high: 100 };
  const windup = {
    none: "none",
    conditional: "no integration at a limit",
    clamping: "integral held within the limits",
    back_calculation: "back-calculation",
  }[pid.anti_windup ?? "back_calculation"];
  return [
    [
      "Action",
      pid.action === "direct" ? "direct: OP rises with the PV" : "reverse: OP falls when the PV rises",
    ],
    ["OP limits", `${number(limits.low)} to ${number(limits.high)} %`],
    ["Rate of the OP", pid.rate_limit == null ? "no limit" : `at most ${number(pid.rate_limit)} %/s`],
    ["Set point in the proportional term", weight === 1 ? "whole" : `${number(100 * weight)} %`],
    ...(pid.derivative_time
      ? ([
          ["Filter of the derivative", `Td/${number(pid.derivative_filter ?? 10)}`],
          [
            "Derivative on",
            (pid.derivative_set_point_weight ?? 0) === 0
              ? "PV"
              : `${number(100 * (pid.derivative_set_point_weight ?? 0))} % of the set point, and PV`,
          ],
        ] as [string, string][])
      : []),
    ["Filter of the PV", pid.filter_time ? `${number(pid.filter_time)} s` : "none"],
    ...(pid.gap
      ? ([["Gap", `±${number(pid.gap)} % of span, inside it ${number(100 * (pid.gap_gain ?? 0))} %`]] as [
          string,
          string,
        ][])
      : []),
    ["Algorithm", pid.algorithm === "velocity" ? "velocity" : "positional"],
    [
      "At a limit",
      windup + (pid.tracking_time != null ? `, tracking time ${number(pid.tracking_time)} s` : ""),
    ],
    ...(pid.schedule ? ([["Schedule", `${pid.schedule.points.length} points`]] as [string, string][]) : []),
    ...(pid.feed_forward
      ? ([["Feed-forward", `${number(pid.feed_forward.gain)} % per unit of ${pid.feed_forward.signal}`]] as [
          string,
          string,
        ][])
      : []),
  ];
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
