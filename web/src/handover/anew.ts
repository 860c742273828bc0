/** What stands behind a trial, made anew once something upstream was changed: the model fitted again as it was, the same candidate under the
 *  same scenario on its plant, the proof with both. */
import { ref, type Ref } from "vue";
import {
  answered,
  api,
  messageOf,
  type ModelRow,
  type Schemas,
  type Trial,
  type TrialRow,
} from "../api/client";
import { letter } from "../lib/format";
import type { useLoop } from "../lib/loop";
import { plain } from "../lib/plain";
import { chosenInstead } from "../model/chosen";
import { useFitJob } from "../model/useFitJob";
import { contenders, nameOf, type Proof, type ProofRow } from "../prove/proof";
import { useProofJob } from "../prove/useProofJob";

type Known = { models: ModelRow[] };

/** What is stale of what stands behind a trial. */
export interface Stale {
  /** The model that is to be fitted again. */
  fitted: ModelRow | null;
  /** The model that was chosen since, which it is to stand on. */
  chosen: ModelRow | null;
  /** The proof that does not hold any more. */
  proof: ProofRow | null;
  /** What will be done, in words. */
  words: string;
}

/** What is stale; null where nothing is, or nothing can be made anew. */
export function staleBehind({ models }: Known, row: TrialRow, proof: ProofRow | null): Stale | null {
  const own = models.find((model) => model.id === row.model_id) ?? null;
  const instead = own ? chosenInstead(models, own.id) : null;
  const chosen = instead?.stale ? null : instead;
  // A reduction is no fit: it is made of another model.
  const fitted = own?.stale && !chosen && !own.reduced_from ? own : null;
  const isOld = row.of_older_engine || (proof?.of_older_engine ?? false);
  if (!fitted && !chosen && !isOld) return null;
  const steps = [
    fitted ? `model ${letter(fitted.number)} is fitted again as it was` : "",
    chosen
      ? `the candidate goes on the plant of model ${letter(chosen.number)}`
      : "the candidate is run again",
    proof ? `proof ${proof.number} is made with it` : "",
  ].filter(Boolean);
  const last = steps.pop() as string;
  return { fitted, chosen, proof, words: steps.length ? `${steps.join(", ")}, and ${last}` : last };
}

/** The model that a trial stands on, and the chosen one, where that is stale itself: it is for a person to choose the former. */
export function choiceToMake({ models }: Known, row: TrialRow): { own: ModelRow; chosen: ModelRow } | null {
  const own = models.find((model) => model.id === row.model_id);
  const chosen = chosenInstead(models, own?.id);
  return own && chosen?.stale && !own.stale ? { own, chosen } : null;
}

/** The request that fits a model again as it was fitted, to the same windows of the same records. */
export function fitAgain(model: ModelRow): Schemas["IdentifyRequest"] {
  const { validation_from: from, validation_to: to } = model;
  const isHeld = typeof from === "number" && typeof to === "number";
  return {
    record_id: model.record_id,
    options: model.options,
    windows: {
      from: model.window_from,
      to: model.window_to,
      validation: isHeld ? { kind: "window", from, to } : { kind: "none" },
    },
    further: (model.further ?? []).map((one) => ({ record_id: one.record_id, from: one.from, to: one.to })),
  };
}

/** The plant of a trial with the process of another one, at its operating point: valve, sensor and further signals stay its own. */
export function onProcessOf(own: Trial["plant"], fresh: Trial["plant"]): Trial["plant"] {
  const { process, operating_point, drive, inputs } = fresh;
  return { ...own, process, operating_point, drive, inputs };
}

/** The proof with another candidate in one of its places, and on its plant. */
export function sameProof(proof: Proof, column: number, row: TrialRow): Proof {
  const next = plain(proof);
  const before = next.candidates[column]?.name;
  const [own] = contenders([row], next.scan);
  if (own) next.candidates[column] = own;
  if (before && next.compared_with === before) next.compared_with = nameOf(row);
  next.plant = row.trial.plant;
  return next;
}

/** Makes anew what stands behind a trial, and tells how far it is. */
export function useAnew(loop: ReturnType<typeof useLoop>): {
  stage: Ref<string>;
  failure: Ref<string>;
  make: (row: TrialRow, stale: Stale, column: number) => Promise<TrialRow | null>;
} {
  const { state } = loop;
  const stage = ref("");
  const failure = ref("");
  const fit = useFitJob(state.tag);
  const prove = useProofJob(state.tag);

  async function onModel(row: TrialRow, model: ModelRow): Promise<Trial> {
    const params = { path: { tag: state.tag } };
    const body = { on: "model" as const, model_id: model.id, choice: { closed_loop_time_constant: null } };
    const fresh = await answered(api.POST("/api/v1/loops/{tag}/propose", { params, body }));
    const plant = onProcessOf(row.trial.plant, fresh.trial.plant);
    const moved = await answered(
      api.POST("/api/v1/trials/on-plant", { body: { trial: plain(row.trial), plant } }),
    );
    const { trial } = moved;
    const { controller } = trial.candidate;
    if (controller.kind === "predictive") {
      // It plans with what the plant is now, and its demands stay.
      const equations = ["library", "equations"].includes(controller.model.structure);
      const taken = await answered(api.POST("/api/v1/predictive/model", { body: { trial, equations } }));
      Object.assign(controller, { inputs: undefined }, taken);
    }
    return trial;
  }

  async function make(row: TrialRow, stale: Stale, column: number): Promise<TrialRow | null> {
    failure.value = "";
    try {
      let model = stale.chosen;
      if (stale.fitted) {
        stage.value = `Model ${letter(stale.fitted.number)} is being fitted again`;
        model = await fit.follow(fitAgain(stale.fitted));
        if (!model) return null;
        await loop.refreshModels();
      }
      stage.value = "The candidate is being run on its plant";
      const trial = model ? await onModel(row, model) : plain(row.trial);
      const on = model ? `, on model ${letter(model.number)}` : "";
      const kept = await answered(
        api.POST("/api/v1/loops/{tag}/trials", {
          params: { path: { tag: state.tag } },
          body: {
            trial,
            model_id: model?.id ?? row.model_id ?? null,
            changed_from: row.id,
            label: `${letter(row.number)} made anew${on}`,
          },
        }),
      );
      await loop.refreshTrials();
      if (stale.proof) {
        stage.value = `Proof ${stale.proof.number} is being made with it`;
        const proof = sameProof(stale.proof.proof, column, kept);
        const { uncertainty } = proof;
        if (model && uncertainty?.kind === "covariance") {
          // Plants are drawn from the model that it stands on now.
          const body = { plant: proof.plant, model_id: model.id, plants: uncertainty.plants };
          proof.uncertainty = await answered(api.POST("/api/v1/proofs/uncertainty", { body }));
        }
        await prove.follow({
          proof,
          model_id: model?.id ?? stale.proof.model_id ?? null,
          label: `${stale.proof.label}, anew`,
        });
        await loop.refreshProofs();
      }
      await loop.refreshHandOver();
      return kept;
    } catch (error) {
      failure.value = messageOf(error);
      return null;
    } finally {
      stage.value = "";
    }
  }

  return { stage, failure, make };
}
