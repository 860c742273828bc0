/** What a model is to be fitted under: structure, method, windows; kept while the page is. */
import { computed, reactive } from "vue";
import type { RecordInfo, Schemas } from "../api/client";
import { useKept } from "../lib/kept";
import { isProcess, offerOf, type Kind, type Structure } from "../lib/structures";

type Loss = Schemas["Loss"]["kind"];
type Noise = Schemas["NoiseModel"];

export interface KnownParameter {
  parameter: string;
  fixed: number | null;
  low: number | null;
  high: number | null;
}

export interface FurtherStretch {
  record_id: string;
  from: number | null;
  to: number | null;
}

/** What is set stays with the loop, also when the step is left. */
export function useFit(tag: string) {
  const kept = useKept(`new model of ${tag}`, () => ({
    kind: "fopdt" as Kind,
    orders: {} as Record<string, number>,
    drift: false,
    initialState: true,
    loss: "squares" as Loss,
    noise: "white" as Noise,
    findSteps: false,
    disturbances: [] as string[],
    outputs: [] as string[],
    known: {} as Record<string, KnownParameter>,
    from: null as number | null,
    to: null as number | null,
    /** Further stretches that the model is fitted to together with the window. */
    further: [] as FurtherStretch[],
    validation: "half" as "half" | "none" | "window",
    validationFrom: null as number | null,
    validationTo: null as number | null,
    /** The record whose channels were looked at for disturbances. */
    record: null as string | null,
  }));
  // What was kept before there were further stretches and noise models has none.
  kept.value.further ??= [];
  kept.value.noise ??= "white";
  kept.value.findSteps ??= false;
  const draft = reactive(kept.value);

  /** Measured disturbances are inputs unless somebody says otherwise: those of another record come anew. */
  function follow(record: RecordInfo) {
    if (draft.record === record.id) return;
    draft.record = record.id;
    const tags = record.channels.filter((channel) => channel.role === "dv").map((channel) => channel.tag);
    draft.disturbances.splice(0, draft.disturbances.length, ...tags);
    const there = new Set(record.channels.map((channel) => channel.tag));
    draft.outputs.splice(0, draft.outputs.length, ...draft.outputs.filter((tag) => there.has(tag)));
  }

  function chooseKind(kind: Kind) {
    draft.kind = kind;
    const orders = offerOf(kind)?.orders ?? [];
    const before = draft.orders;
    draft.orders = Object.fromEntries(orders.map(({ name, value }) => [name, before[name] ?? value]));
  }

  function use(structure: Structure) {
    const { kind, ...orders } = structure;
    draft.kind = kind;
    draft.orders = { ...(orders as Record<string, number>) };
  }

  const windows = computed<Schemas["Windows"]>(() => ({
    from: draft.from,
    to: draft.to,
    validation:
      draft.validation === "window"
        ? { kind: "window", from: draft.validationFrom ?? 0, to: draft.validationTo ?? 0 }
        : { kind: draft.validation },
  }));

  const options = computed<Schemas["FitOptions"]>(() => {
    const process = isProcess(draft.kind);
    const loss: Schemas["Loss"] =
      draft.loss === "huber"
        ? { kind: "huber", width: 1.345 }
        : draft.loss === "dead_band"
          ? { kind: "dead_band", width: 1 }
          : { kind: draft.loss };
    const constraints = Object.values(draft.known).filter(
      (known) => known.fixed !== null || known.low !== null || known.high !== null,
    );
    return {
      structure: { kind: draft.kind, ...draft.orders } as Structure,
      initial_state: process ? draft.initialState : true,
      drift: process && draft.drift,
      loss: draft.kind === "state_space" ? { kind: "squares" } : loss,
      noise: process ? draft.noise : "white",
      find_steps: process && draft.findSteps,
      constraints: process ? constraints : [],
      disturbances: draft.disturbances,
      outputs: draft.kind === "state_space" ? draft.outputs : [],
    };
  });

  return { draft, follow, chooseKind, use, windows, options };
}

export type FitDraft = ReturnType<typeof useFit>;
