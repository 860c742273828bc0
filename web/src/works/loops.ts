/** Making, changing and deleting what the works consist of. */
import type { InjectionKey } from "vue";
import { answered, api, ifMatch, type LoopDetail, type Schemas } from "../api/client";
import { plain } from "../lib/plain";

export type LoopCard = Required<Schemas["LoopCard"]>;
export type AreaInfo = Schemas["AreaInfo"];

/** Opens the dialog in which a loop's tag, name, area, notes and signals are edited. */
export const EDIT_LOOP: InjectionKey<() => void> = Symbol("edit the loop");

/** A loop that begins with nothing. */
export function emptyCard(): LoopCard {
  return {
    tag: "",
    name: "",
    difficulty: "",
    notes: "",
    pv: { tag: "", span: { low: 0, high: 100, unit: "" } },
    op: { tag: "", span: { low: 0, high: 100, unit: "%" } },
  };
}

export function cardOf(detail: LoopDetail): LoopCard {
  const { tag, name, difficulty, notes, pv, op } = detail;
  return plain({ tag, name, difficulty, notes, pv, op }) as LoopCard;
}

export function makeLoop(body: Schemas["NewLoopRequest"]): Promise<LoopDetail> {
  return answered(api.POST("/api/v1/loops", { body }));
}

export function changeLoop(
  tag: string,
  revision: number,
  body: Schemas["LoopChange"],
  force = false,
): Promise<LoopDetail> {
  const header = ifMatch(revision, force);
  return answered(api.PUT("/api/v1/loops/{tag}", { params: { path: { tag }, header }, body }));
}

export function deleteLoop(tag: string): Promise<Schemas["BinItem"]> {
  return answered(api.DELETE("/api/v1/loops/{tag}", { params: { path: { tag } } }));
}

/** Loops out of an archive. */
export function takeArchiveIn(file: File): Promise<LoopDetail[]> {
  return answered(
    api.POST("/api/v1/archives", {
      body: file as unknown as string,
      bodySerializer: (body) => body as unknown as BodyInit,
      headers: { "Content-Type": "application/zip" },
    }),
  );
}
