/** The structures of a model: what there is says the core; here is how they are named in tables. */
import { answered, api, type Schemas } from "../api/client";
import { fetchedOnce } from "./once";

export type Structure = Schemas["Structure"];
export type Kind = Structure["kind"];
export type Offer = Schemas["StructureOffer"];

const { list: offers, use } = fetchedOnce(() => answered(api.GET("/api/v1/structures")));

/** All that can be fitted. */
export const useStructures = use;

/** For tests: what would have been fetched. */
export function setStructures(all: Offer[]) {
  offers.value = all;
}

export function offerOf(kind: Kind): Offer | undefined {
  return offers.value.find((known) => known.structure.kind === kind);
}

export function isProcess(kind: Kind): boolean {
  return offerOf(kind)?.is_process ?? false;
}

/** Whether a trial can begin with such a model as it is. */
export function beginsTrials(kind: Kind): boolean {
  return offerOf(kind)?.begins_trials ?? false;
}

/** Whether it is a transfer function with dead time, or a matrix of them: what can be set of the fit is the same. */
export function hasDeadTimes(kind: Kind): boolean {
  return isProcess(kind) || kind === "matrix";
}

/** Whether a model of it has several outputs. */
export function hasOutputs(kind: Kind): boolean {
  return kind === "matrix" || kind === "state_space" || kind === "physical";
}

/** The structure in a few letters: `ARX 2,2,18`. */
export function shortName(structure: Structure): string {
  const known = offerOf(structure.kind);
  const orders = (known?.orders ?? []).map((order) => (structure as Record<string, unknown>)[order.name]);
  return `${known?.short ?? inWords(structure.kind)}${orders.length ? ` ${orders.join(",")}` : ""}`;
}

/** A name out of the API in words. */
export function inWords(name: string): string {
  return name.replaceAll("_", " ");
}
