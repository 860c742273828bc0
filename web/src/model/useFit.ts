/** What a model is to be fitted under: structure, method, windows; kept while the page is. */
import { computed, reactive } from "vue";
import type { RecordInfo, Schemas } from "../api/client";
import { useKept } from "../lib/kept";
import { usePhysical } from "./usePhysical";
import { hasDeadTimes, hasOutputs, isProcess, offerOf, type Kind, type Structure } from "../lib/structures";

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

/** A cell of a matrix by its signals: a tag has no line break. */
const keyOf = (output: string, input: string) => `${output}\n${input}`;

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
    /** Structures of the cells of a matrix that were chosen, by output and input. */
    cells: {} as Record<string, Kind | "none">,
    /** Tags of the PV and the OP of the record, and of those that it has besides. */
    own: { pv: "PV", op: "OP", pvs: [] as string[], ops: [] as string[] },
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
  kept.value.cells ??= {};
  kept.value.own ??= { pv: "PV", op: "OP", pvs: [], ops: [] };
  const draft = reactive(kept.value);
  const physical = usePhysical(tag);

  /** Measured disturbances are inputs unless somebody says otherwise: those of another record come anew. */
  function follow(record: RecordInfo) {
    const tagsOf = (role: string) =>
      record.channels.filter((channel) => channel.role === role).map((channel) => channel.tag);
    const [[pv = "PV", ...pvs], [op = "OP", ...ops]] = [tagsOf("pv"), tagsOf("op")];
    draft.own = { pv, op, pvs, ops };
    if (draft.record === record.id) return;
    draft.record = record.id;
    const tags = record.channels.filter((channel) => channel.role === "dv").map((channel) => channel.tag);
    draft.disturbances.splice(0, draft.disturbances.length, ...tags);
    const there = new Set(record.channels.map((channel) => channel.tag));
    draft.outputs.splice(0, draft.outputs.length, ...draft.outputs.filter((tag) => there.has(tag)));
  }

  function chooseKind(kind: Kind) {
    draft.kind = kind;
    // A matrix of a record with several PVs and OPs is one of all of them, unless somebody has chosen.
    if (kind === "matrix" && draft.outputs.length === 0) {
      draft.outputs = draft.own.pvs.filter((tag) => !draft.disturbances.includes(tag));
      const ops = draft.own.ops.filter((tag) => !draft.disturbances.includes(tag));
      draft.disturbances = [...ops, ...draft.disturbances];
    }
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

  /** Outputs and inputs of a matrix, each with what acts and is acted on. */
  const outputs = computed(() => [draft.own.pv, ...draft.outputs]);
  const inputs = computed(() => [draft.own.op, ...draft.disturbances]);
  const cellOf = (output: string, input: string) => draft.cells[keyOf(output, input)] ?? "fopdt";
  function setCell(output: string, input: string, kind: Kind | "none") {
    draft.cells[keyOf(output, input)] = kind;
  }
  const cells = computed(() =>
    outputs.value.map((output) =>
      inputs.value.map((input) => {
        const kind = cellOf(output, input);
        return kind === "none" ? null : ({ kind } as Structure);
      }),
    ),
  );

  const options = computed<Schemas["FitOptions"]>(() => {
    const process = hasDeadTimes(draft.kind);
    const isPhysical = draft.kind === "physical";
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
      noise: process || isPhysical ? draft.noise : "white",
      find_steps: process && draft.findSteps,
      constraints: isProcess(draft.kind) ? constraints : [],
      disturbances: isPhysical ? [] : draft.disturbances,
      outputs: hasOutputs(draft.kind) && !isPhysical ? draft.outputs : [],
      ...(isPhysical && physical.options.value ? { physical: physical.options.value } : {}),
      ...(draft.kind === "matrix" ? { cells: cells.value } : {}),
    };
  });

  return { draft, follow, chooseKind, use, windows, options, outputs, inputs, cellOf, setCell, physical };
}

export type FitDraft = ReturnType<typeof useFit>;
