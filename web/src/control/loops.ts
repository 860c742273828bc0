/** The loops of a trial: the first one, which has no name of its own here, and those of further controllers by their names. */
import type { Schemas, Trial } from "../api/client";
import type { Event } from "./events";

export type Wired = Schemas["Wired"];

/** The name of the first loop: the tag of its PV without `.PV`. */
export function firstName(trial: Trial): string {
  return trial.plant.pv.tag.replace(/\.PV$/, "");
}

/** Keys and names of all loops; the key of the first is empty. */
export function loopsOf(trial: Trial): { key: string; name: string }[] {
  const further = (trial.candidate.further ?? []).map((wired) => ({ key: wired.name, name: wired.name }));
  return [{ key: "", name: firstName(trial) }, ...further];
}

export function wiredOf(trial: Trial, of: string): Wired | null {
  return trial.candidate.further?.find((wired) => wired.name === of) ?? null;
}

/** The events at a loop; the list is made where there is none. */
export function eventsOf(trial: Trial, of: string): Event[] {
  if (!of) return trial.scenario.events;
  trial.scenario.further ??= {};
  return (trial.scenario.further[of] ??= []);
}

/** Tag and span of what a loop measures. */
export function measuredOf(trial: Trial, of: string): Schemas["Signal"] {
  const { pv, further_measured } = trial.plant;
  const tag = wiredOf(trial, of)?.measures ?? pv.tag;
  return further_measured?.find((signal) => signal.tag === tag) ?? pv;
}

/** All signals that a controller can measure. */
export function measuredTags(trial: Trial): string[] {
  return [trial.plant.pv.tag, ...(trial.plant.further_measured ?? []).map((signal) => signal.tag)];
}

/** All that a controller can set: OPs, and the set points of the others. */
export function settableTags(trial: Trial, of: string): string[] {
  const ops = [trial.plant.op.tag, ...(trial.plant.further_driven ?? []).map((signal) => signal.tag)];
  const others = loopsOf(trial).filter((loop) => loop.key !== of);
  return [...ops, ...others.map((loop) => `${loop.name}.SP`)];
}

/** The wires of a controller: of the first one that is given none, that to the OP. */
export function wiresOf(trial: Trial, of: string): Schemas["Wire"][] {
  const wired = of ? wiredOf(trial, of) : null;
  // A seat may set nothing.
  if (wired?.controller.kind === "seat") return wired.sets;
  const own = of ? wired?.sets : trial.candidate.sets;
  return own?.length ? own : [{ to: trial.plant.op.tag }];
}

/** A trial as the editors of one loop read it: with that loop's PV and events in the place of the first ones. */
export function readFrom(trial: Trial, of: string): Trial {
  if (!of) return trial;
  const events = trial.scenario.further?.[of] ?? [];
  return {
    ...trial,
    plant: { ...trial.plant, pv: measuredOf(trial, of) },
    candidate: {
      ...trial.candidate,
      controller: wiredOf(trial, of)?.controller ?? trial.candidate.controller,
    },
    scenario: { ...trial.scenario, events },
  };
}

/** Further signals that a controller can read, besides those of the process by name. */
export function signalTags(trial: Trial): { name: string; unit: string }[] {
  const measured = trial.plant.further_measured ?? [];
  const driven = trial.plant.further_driven ?? [];
  const disturbances = (trial.plant.measured_disturbances ?? []).map(({ tag, span }) => ({
    name: tag,
    unit: span.unit,
  }));
  if (measured.length + driven.length === 0) return disturbances;
  const { pv, op } = trial.plant;
  return [
    ...disturbances,
    { name: pv.tag, unit: pv.span.unit },
    ...measured.map((signal) => ({ name: signal.tag, unit: signal.span.unit })),
    ...[op, ...driven].map((signal) => ({ name: signal.tag, unit: "%" })),
  ];
}

/** The lists of a plant's signals beside its PV and OP. */
export type SignalList = "further_measured" | "further_driven" | "measured_disturbances";

/** Renames a further signal, and what is wired to it or reads it. */
export function setTag(trial: Trial, list: SignalList, k: number, tag: string) {
  const own = trial.plant[list]?.[k];
  if (!own) return;
  const before = own.tag;
  own.tag = tag;
  for (const wired of trial.candidate.further ?? []) {
    if (wired.measures === before) wired.measures = tag;
    for (const wire of wired.sets) if (wire.to === before) wire.to = tag;
  }
  for (const wire of trial.candidate.sets ?? []) if (wire.to === before) wire.to = tag;
  const controllers = [
    trial.candidate.controller,
    ...(trial.candidate.further ?? []).map((one) => one.controller),
  ];
  for (const controller of controllers) {
    if (controller.kind === "pid" && controller.feed_forward?.signal === before)
      controller.feed_forward.signal = tag;
    if (controller.kind === "predictive")
      for (const dv of controller.dvs ?? []) if (dv.signal === before) dv.signal = tag;
  }
  if (trial.candidate.ratio?.signal === before) trial.candidate.ratio.signal = tag;
  const events = [trial.scenario.events, ...Object.values(trial.scenario.further ?? {})].flat();
  for (const event of events)
    if (event.kind === "sensor_fails" && event.signal === before) event.signal = tag;
}

/** Who reads a signal of a plant, in words; nobody where it is not told of. */
export function readerOf(trial: Trial, tag: string): string | null {
  const all = [
    { name: "The first controller", controller: trial.candidate.controller },
    ...(trial.candidate.further ?? []),
  ];
  const reads = all.find(({ controller }) => {
    if (controller.kind === "predictive") return (controller.dvs ?? []).some((dv) => dv.signal === tag);
    return controller.kind === "pid" && controller.feed_forward?.signal === tag;
  });
  if (reads) return reads.name;
  return trial.candidate.ratio?.signal === tag ? "The ratio" : null;
}
