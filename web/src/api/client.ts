import createClient from "openapi-fetch";
import { unanswered } from "../lib/live";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type LoopDetail = Schemas["LoopDetail"];
export type LoopSummary = Schemas["LoopSummary"];
export type RecordInfo = Schemas["RecordInfo"];
export type ModelRow = Schemas["ModelRow"];
export type TrialRow = Schemas["TrialRow"];
export type ProofRow = Schemas["ProofRow"];
export type Plant = Schemas["Plant"];
export type Trial = Schemas["Trial"];
export type TrialResult = Schemas["TrialResult"];
export type Verdict = Schemas["Verdict"];

export const api = createClient<paths>({ baseUrl: "" });

/** What the server refused, in its words. */
export class ApiError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly field?: string,
    /** The document as it stands now, where somebody else has changed it meanwhile. */
    readonly current: Record<string, unknown> | null = null,
  ) {
    super(message);
  }
}

export interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** The data of an answer; a problem document becomes an ApiError. */
export async function answered<T>(request: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await request;
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    unanswered();
    throw new ApiError("The server does not answer. Is it still running?", 0);
  }
  if (answer.data !== undefined) return answer.data;
  if (answer.response.ok) return undefined as T;
  // The server is there, but what it stands on is not: asked again by itself, like a server that does not answer.
  if (answer.response.status === 503) unanswered();
  const problem = (answer.error ?? {}) as Partial<Schemas["Problem"]>;
  throw new ApiError(
    problem.detail ?? `The server answered ${answer.response.status}.`,
    answer.response.status,
    problem.field ?? undefined,
    (problem.current as Record<string, unknown> | undefined) ?? null,
  );
}

/** How many rows there are in all where an answer brings the newest of them. */
export function inAllOf(answer: Answer<unknown>, shown: number): number {
  return Math.max(Number(answer.response.headers.get("x-total-count")), shown);
}

/** How many rows of an answer are missing since this version cannot read them. */
export function unreadableOf(answer: Answer<unknown>): number {
  return Number(answer.response.headers.get("x-unreadable-count"));
}

/** Whether the server did not answer at all, so that asking again may help. */
export function isUnanswered(error: unknown): boolean {
  return error instanceof ApiError && (error.status === 0 || error.status === 503);
}

/** Whether the server refused what it was asked, and said why. */
export function isRefused(error: unknown): boolean {
  return error instanceof ApiError && error.status === 422;
}

/** Whether there is no such thing, or no longer. */
export function isMissing(error: unknown): boolean {
  return error instanceof ApiError && error.status === 404;
}

export function fieldOf(error: unknown): string {
  return error instanceof ApiError ? (error.field ?? "") : "";
}

/** Says which revision a change begins from; `force` overwrites whatever stands there. */
export function ifMatch(revision: number, force = false): { "If-Match": string } {
  return { "If-Match": force ? "*" : `"${revision}"` };
}

export function isAbort(error: unknown): boolean {
  return error instanceof DOMException && error.name === "AbortError";
}

export function messageOf(error: unknown): string {
  return error instanceof Error ? error.message : String(error);
}
