import { describe, expect, it } from "vitest";
import type { ModelRow, Trial, TrialRow } from "../src/api/client";
import { choiceToMake, onProcessOf, fitAgain, sameProof, staleBehind } from "../src/handover/anew";
import type { Proof, ProofRow } from "../src/prove/proof";

const model = (number: number, rest: Partial<ModelRow> = {}) =>
  ({ id: `m${number}`, number, chosen: false, stale: false, reduced_from: null, ...rest }) as ModelRow;
const row = (rest: Partial<TrialRow> = {}) =>
  ({ id: "t", number: 6, label: "ours", model_id: "m1", of_older_engine: false, ...rest }) as TrialRow;
const proof = (rest: Partial<ProofRow> = {}) => ({ number: 2, of_older_engine: false, ...rest }) as ProofRow;

describe("what is stale behind a trial", () => {
  it("is nothing where nothing was changed, and where there is no model", () => {
    expect(staleBehind({ models: [model(1, { chosen: true })] }, row(), proof())).toBeNull();
    expect(staleBehind({ models: [] }, row({ model_id: null }), null)).toBeNull();
  });

  it("is its model, which is fitted again, with all that comes after it", () => {
    const found = staleBehind({ models: [model(1, { chosen: true, stale: true })] }, row(), proof());
    expect(found?.fitted?.id).toBe("m1");
    expect(found?.words).toBe(
      "model A is fitted again as it was, the candidate is run again, and proof 2 is made with it",
    );
  });

  it("is that another model was chosen since, as long as that one holds", () => {
    const models = [model(1), model(3, { chosen: true })];
    const found = staleBehind({ models }, row(), null);
    expect([found?.fitted, found?.chosen?.id]).toEqual([null, "m3"]);
    expect(found?.words).toBe("the candidate goes on the plant of model C");
    // A chosen one that is stale itself is for a person to replace.
    const stale = [model(1), model(3, { chosen: true, stale: true })];
    expect(staleBehind({ models: stale }, row(), null)).toBeNull();
    expect(choiceToMake({ models: stale }, row())?.own.id).toBe("m1");
    expect(choiceToMake({ models }, row())).toBeNull();
  });

  it("is what an older engine computed; a reduction is not fitted", () => {
    expect(staleBehind({ models: [] }, row({ of_older_engine: true }), null)?.words).toBe(
      "the candidate is run again",
    );
    const reduced = [model(1, { chosen: true, stale: true, reduced_from: "m0" })];
    expect(staleBehind({ models: reduced }, row(), proof())).toBeNull();
  });
});

describe("made anew", () => {
  it("a model is fitted with the same options to the same windows of the same records", () => {
    const options = { structure: "fopdt" };
    const own = model(1, {
      record_id: "r",
      options,
      window_from: 10,
      window_to: 50,
      validation_from: 50,
      validation_to: 90,
      further: [{ record_id: "r2", from: 0, to: 7, preparation: [], record_hash: "" }],
    } as unknown as Partial<ModelRow>);
    expect(fitAgain(own)).toEqual({
      record_id: "r",
      options,
      windows: { from: 10, to: 50, validation: { kind: "window", from: 50, to: 90 } },
      further: [{ record_id: "r2", from: 0, to: 7 }],
    });
    const alone = { ...own, validation_from: null, validation_to: null, further: [] } as ModelRow;
    expect(fitAgain(alone).windows?.validation).toEqual({ kind: "none" });
  });

  it("a plant keeps its valve and its sensor, and has the process and where it rests from the model", () => {
    const plant = (process: string, pv: number) =>
      ({
        process,
        operating_point: { pv, op: 40 },
        sensor: { noise: pv },
        actuator: "own",
      }) as unknown as Trial["plant"];
    expect(onProcessOf(plant("old", 1), plant("new", 2))).toMatchObject({
      process: "new",
      operating_point: { pv: 2 },
      sensor: { noise: 1 },
      actuator: "own",
    });
  });

  it("a proof has the new candidate in the place of the old one, and all others as they were", () => {
    const old = {
      scan: 2,
      compared_with: "A: runs",
      candidates: [
        { name: "A: runs", candidate: { controller: { kind: "manual" } } },
        { name: "B: ours", candidate: { controller: { kind: "manual" } } },
      ],
      plant: { process: "old" },
    } as unknown as Proof;
    const kept = row({
      number: 7,
      label: "ours anew",
      trial: {
        plant: { process: "new" },
        candidate: { controller: { kind: "pid" } },
        scenario: { scan: 4 },
      } as unknown as Trial,
    });
    const next = sameProof(old, 0, kept);
    expect(next.candidates[0]).toMatchObject({ candidate: { controller: { kind: "pid" } }, scan: 4 });
    expect(next.candidates[1]).toEqual(old.candidates[1]);
    expect(next.compared_with).toBe(next.candidates[0]!.name);
    expect(next.plant).toEqual({ process: "new" });
    expect(old.candidates[0]!.name).toBe("A: runs");
  });
});
