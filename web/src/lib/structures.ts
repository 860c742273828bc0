/** The structures of a model in words, and what is asked for each. */
import type { Schemas } from "../api/client";

export type Structure = Schemas["Structure"];
export type Kind = Structure["kind"];

export interface Order {
  key: string;
  title: string;
  start: number;
  min: number;
  max: number;
}

export const ORDERS: Record<string, Omit<Order, "key" | "start">> = {
  na: { title: "A", min: 0, max: 30 },
  nb: { title: "B", min: 1, max: 30 },
  nc: { title: "C", min: 0, max: 30 },
  nd: { title: "D", min: 0, max: 30 },
  nf: { title: "F", min: 0, max: 30 },
  nk: { title: "delay", min: 0, max: 1000 },
  order: { title: "states (0: found)", min: 0, max: 30 },
};

export const KINDS: { kind: Kind; title: string; short: string; orders: Record<string, number> }[] = [
  { kind: "fopdt", title: "first order, dead time", short: "FOPDT", orders: {} },
  { kind: "two_lags", title: "two lags, dead time", short: "two lags", orders: {} },
  { kind: "underdamped", title: "under-damped, dead time", short: "2nd order", orders: {} },
  { kind: "two_lags_lead", title: "two lags and lead, dead time", short: "lags + lead", orders: {} },
  { kind: "integrating", title: "integrating, dead time", short: "integrating", orders: {} },
  { kind: "integrating_lag", title: "integrating, lag, dead time", short: "integr. + lag", orders: {} },
  { kind: "arx", title: "ARX, least squares", short: "ARX", orders: { na: 2, nb: 2, nk: 1 } },
  { kind: "armax", title: "ARMAX, prediction error", short: "ARMAX", orders: { na: 2, nb: 2, nc: 1, nk: 1 } },
  { kind: "output_error", title: "output error (B/F)", short: "OE", orders: { nb: 2, nf: 2, nk: 1 } },
  {
    kind: "box_jenkins",
    title: "Box–Jenkins (B/F, C/D)",
    short: "BJ",
    orders: { nb: 2, nc: 1, nd: 1, nf: 2, nk: 1 },
  },
  { kind: "state_space", title: "state space, subspace", short: "SS", orders: { order: 0 } },
];

export function isProcess(kind: Kind): boolean {
  return KINDS.findIndex((known) => known.kind === kind) < 6;
}

/** The structure in a few letters: `ARX 2,2,18`. */
export function shortName(structure: Structure): string {
  const known = KINDS.find((candidate) => candidate.kind === structure.kind);
  const orders = Object.keys(known?.orders ?? {}).map((key) => (structure as Record<string, unknown>)[key]);
  return `${known?.short ?? structure.kind}${orders.length ? ` ${orders.join(",")}` : ""}`;
}

/** A name out of the API in words. */
export function inWords(name: string): string {
  return name.replaceAll("_", " ");
}
