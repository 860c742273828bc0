/** What is set of a physical model: its process, the channels of its signals, and what is sought. */
import { computed, ref, shallowRef, watch } from "vue";
import { answered, api, isAbort, messageOf, type Schemas } from "../api/client";
import { useKept } from "../lib/kept";
import { plain } from "../lib/plain";

export type Physical = Schemas["PhysicalOptions"];
export type Sought = Schemas["Sought"];
type Kind = NonNullable<Sought["kind"]>;
export type Detailed = Schemas["DetailedSpec"];

/** A number that can be sought, with where it stands in the options where it is. */
export interface SoughtRow {
  kind: Kind;
  name: string;
  title: string;
  unit: string;
  /** The value that it has where it is known; null where nothing stands there: a valve without a characteristic of its own. */
  known: number | null;
  place: number;
}

const words = (name: string) => name.replaceAll("_", " ");

export function usePhysical(tag: string) {
  const kept = useKept(`physical model of ${tag}`, () => ({
    options: null as Physical | null,
    description: null as Schemas["Description"] | null,
  }));
  const options = computed(() => kept.value.options);
  const description = computed(() => kept.value.description);
  const problem = ref("");
  const busy = ref(false);
  const telling = shallowRef<Schemas["Telling"] | null>(null);
  const steady = shallowRef<Schemas["SteadyCheck"] | null>(null);

  /** Another process on a record: which channel is which says the core. */
  async function begin(record: string, process: Detailed) {
    busy.value = true;
    problem.value = "";
    try {
      const begun = await answered(
        api.POST("/api/v1/loops/{tag}/models/physical", {
          params: { path: { tag } },
          body: { record_id: record, process },
        }),
      );
      kept.value = { options: begun.options as Physical, description: begun.description };
    } catch (error) {
      if (!isAbort(error)) problem.value = messageOf(error);
    } finally {
      busy.value = false;
    }
  }

  function change(edit: (options: Physical) => void) {
    if (!kept.value.options) return;
    const next = plain(kept.value.options) as Physical;
    edit(next);
    kept.value = { ...kept.value, options: next };
  }

  /** What was found is where a further fit begins. */
  async function goOn(fitted: Physical) {
    await ask(async () => {
      const body = { process: fitted.process, pv_unit: "" };
      const described = await answered(api.POST("/api/v1/processes/describe", { body }));
      kept.value = { options: plain(fitted) as Physical, description: described };
    });
  }

  // What was told is about other settings as soon as one of them changes.
  watch(
    () => JSON.stringify(options.value),
    () => ((telling.value = null), (steady.value = null)),
  );

  const place = (kind: Kind, name: string) =>
    (options.value?.sought ?? []).findIndex((own) => (own.kind ?? "parameter") === kind && own.name === name);

  const rows = computed<SoughtRow[]>(() => {
    const { options: own, description: of } = kept.value;
    if (!own || !of) return [];
    const row = (kind: Kind, name: string, title: string, unit: string, known: number | null): SoughtRow => ({
      kind,
      name,
      title,
      unit,
      known,
      place: place(kind, name),
    });
    return [
      ...of.parameters.map((one) => {
        const given = own.process.structure === "library" ? own.process.parameters?.[one.name] : undefined;
        return row("parameter", one.name, words(one.name), one.unit, given ?? one.value);
      }),
      ...own.inputs.map((one) =>
        row("dead_time", one.input, `dead time of ${words(one.input)}`, "s", one.dead_time ?? 0),
      ),
      ...own.inputs
        .filter((one) => one.range)
        .map((one) =>
          row(
            "rangeability",
            one.input,
            `rangeability of the valve of ${words(one.input)}`,
            "",
            one.rangeability ?? null,
          ),
        ),
      ...own.outputs.flatMap((one) => {
        const unit = of.outputs.find((output) => output.name === one.output)?.unit ?? "";
        return [
          row("lag", one.output, `sensor lag of ${words(one.output)}`, "s", one.lag ?? 0),
          row("offset", one.output, `offset of ${words(one.output)}`, unit, one.offset ?? 0),
        ];
      }),
    ];
  });

  function seek(row: SoughtRow, on: boolean) {
    change((own) => {
      if (on) own.sought.push({ kind: row.kind, name: row.name });
      else own.sought.splice(row.place, 1);
    });
  }

  /** Sets what is known, or where a search begins, its bounds, and what is known beforehand. */
  function set(row: SoughtRow, key: "value" | "low" | "high" | "deviation", value: number | null) {
    change((own) => {
      const sought = own.sought[row.place];
      if (sought && row.place >= 0) {
        sought[key] = value;
        return;
      }
      const valve = row.kind === "rangeability" && own.inputs.find((one) => one.input === row.name);
      if (valve) valve.rangeability = value;
      if (key !== "value" || value === null) return;
      if (row.kind === "parameter") {
        if (own.process.structure === "library")
          own.process.parameters = { ...own.process.parameters, [row.name]: value };
        else if (own.process.structure === "equations") {
          const found = own.process.parameters?.find((one) => one.name === row.name);
          if (found) found.value = value;
        }
        return;
      }
      if (row.kind === "dead_time") {
        const input = own.inputs.find((one) => one.input === row.name);
        if (input) input.dead_time = value;
      }
      const output = own.outputs.find((one) => one.output === row.name);
      if (output && row.kind === "lag") output.lag = value;
      if (output && row.kind === "offset") output.offset = value;
    });
    if (row.kind === "parameter" && row.place < 0 && key === "value" && value !== null) {
      const described = plain(kept.value.description) as Schemas["Description"];
      const parameter = described.parameters.find((one) => one.name === row.name);
      if (parameter) parameter.value = value;
      kept.value = { ...kept.value, description: described };
    }
  }

  /** Gives an input its channel, or takes it away. */
  function mapInput(input: string, channel: { tag: string; unit: string } | null) {
    const unit = description.value?.inputs.find((one) => one.name === input)?.unit;
    change((own) => {
      own.inputs = own.inputs.filter((one) => one.input !== input);
      const ofInput = (one: Sought) => one.kind === "dead_time" || one.kind === "rangeability";
      own.sought = own.sought.filter((one) => !ofInput(one) || one.name !== input);
      if (!channel) return;
      const range =
        channel.unit === "%" && unit !== "%"
          ? description.value?.drive.input === input
            ? ([description.value.drive.at_0, description.value.drive.at_100] as [number, number])
            : ([0, 100] as [number, number])
          : undefined;
      own.inputs.push({ input, tag: channel.tag, ...(range ? { range } : {}) });
      own.rest = Object.fromEntries(Object.entries(own.rest ?? {}).filter(([name]) => name !== input));
    });
  }

  function mapOutput(output: string, channel: string | null) {
    change((own) => {
      own.outputs = own.outputs.filter((one) => one.output !== output && one.tag !== channel);
      own.sought = own.sought.filter(
        (one) =>
          (one.kind !== "lag" && one.kind !== "offset") || own.outputs.some((of) => of.output === one.name),
      );
      if (channel) own.outputs.push({ output, tag: channel });
    });
  }

  type Fit = Schemas["IdentifyRequest"];
  async function tell(fit: Fit) {
    await ask(async () => {
      telling.value = await answered(
        api.POST("/api/v1/loops/{tag}/models/telling", { params: { path: { tag } }, body: fit }),
      );
    });
  }

  async function checkAtRest(fit: Fit, parameter: string) {
    await ask(async () => {
      steady.value = await answered(
        api.POST("/api/v1/loops/{tag}/models/steady", {
          params: { path: { tag } },
          body: { fit, parameter },
        }),
      );
    });
  }

  async function ask(question: () => Promise<void>) {
    busy.value = true;
    problem.value = "";
    try {
      await question();
    } catch (error) {
      if (!isAbort(error)) problem.value = messageOf(error);
    } finally {
      busy.value = false;
    }
  }

  return {
    options,
    description,
    rows,
    problem,
    busy,
    telling,
    steady,
    begin,
    change,
    goOn,
    seek,
    set,
    mapInput,
    mapOutput,
    tell,
    checkAtRest,
  };
}

export type PhysicalDraft = ReturnType<typeof usePhysical>;
