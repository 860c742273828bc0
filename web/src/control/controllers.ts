/** The kinds of controllers: names, and settings to begin with. */
import { answered, api, type Schemas, type Trial } from "../api/client";

export type Controller = Schemas["ControllerSpec"];
export type Pid = Schemas["PidSettings"];
/** Kinds that can be chosen: a seat belongs to the predictive controller of its candidate. */
export type Kind = Exclude<Controller["kind"], "seat">;

export const KINDS: { value: Kind; title: string }[] = [
  { value: "pid", title: "PID" },
  { value: "smith", title: "Smith predictor" },
  { value: "cascade", title: "cascade" },
  { value: "predictive", title: "predictive" },
  { value: "model_reference", title: "model-reference adaptive" },
  { value: "self_tuning", title: "self-tuning" },
  { value: "relay", title: "relay experiment" },
  { value: "manual", title: "manual" },
];

/** The PID settings that a controller works with: of a cascade, those of the outer controller. */
export function mainPid(controller: Controller): Pid | null {
  switch (controller.kind) {
    case "pid":
      return controller;
    case "smith":
      return controller.pid;
    case "cascade":
      return controller.outer;
    default:
      return null;
  }
}

/** Settings of another kind to begin with, and the scenario that suits it. */
export function beginWith(kind: Kind, trial: Trial): Promise<Schemas["Beginning"]> {
  return answered(api.POST("/api/v1/tune/begin", { body: { trial, kind } }));
}
