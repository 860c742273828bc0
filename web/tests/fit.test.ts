/** What a fit is asked for with: the cells of a matrix, and when two fits are the same. */
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { RecordInfo, Schemas } from "../src/api/client";
import { setStructures } from "../src/lib/structures";
import { settingsOf } from "../src/model/sameFit";
import { useFit } from "../src/model/useFit";

type Options = Schemas["FitOptions"];

const offer = (kind: string, is_process: boolean): Schemas["StructureOffer"] => ({
  structure: { kind } as Schemas["Structure"],
  title: kind,
  short: kind,
  is_process,
  begins_trials: is_process,
  orders: [],
  parameters: [],
});

const channel = (tag: string, role: Schemas["Role"]) => ({ tag, role, unit: "%" });
const record = {
  id: "r1",
  channels: [
    channel("A.PV", "pv"),
    channel("A.OP", "op"),
    channel("B.PV", "pv"),
    channel("B.OP", "op"),
    channel("F.PV", "dv"),
  ],
} as unknown as RecordInfo;

vi.stubGlobal("sessionStorage", {
  getItem: () => null,
  setItem: () => undefined,
  removeItem: () => undefined,
});

let loop = 0;
beforeEach(() => {
  setStructures([offer("fopdt", true), offer("two_lags", true), offer("matrix", false), offer("arx", false)]);
  loop += 1;
});
/** A new model of a loop that nobody has set anything for. */
const fresh = () => useFit(`L-${loop}`);

describe("a matrix", () => {
  it("begins with every PV and OP of the record, and with what was measured as a disturbance", () => {
    const fit = fresh();
    fit.follow(record);
    fit.chooseKind("matrix");
    expect(fit.outputs.value).toEqual(["A.PV", "B.PV"]);
    expect(fit.inputs.value).toEqual(["A.OP", "B.OP", "F.PV"]);
    expect(fit.options.value.cells).toEqual(Array(2).fill(Array(3).fill({ kind: "fopdt" })));
  });

  it("keeps what was chosen for a cell when signals come and go", () => {
    const fit = fresh();
    fit.follow(record);
    fit.chooseKind("matrix");
    fit.setCell("B.PV", "F.PV", "none");
    fit.setCell("B.PV", "B.OP", "two_lags");
    fit.draft.disturbances = ["F.PV"];
    expect(fit.options.value.cells).toEqual([
      [{ kind: "fopdt" }, { kind: "fopdt" }],
      [{ kind: "fopdt" }, null],
    ]);
    fit.draft.disturbances = ["F.PV", "B.OP"];
    expect(fit.options.value.cells?.[1]).toEqual([{ kind: "fopdt" }, null, { kind: "two_lags" }]);
  });

  it("leaves what somebody chose as it is", () => {
    const fit = fresh();
    fit.follow(record);
    fit.draft.outputs = ["F.PV"];
    fit.draft.disturbances = [];
    fit.chooseKind("matrix");
    expect(fit.outputs.value).toEqual(["A.PV", "F.PV"]);
    expect(fit.inputs.value).toEqual(["A.OP"]);
  });

  it("is asked for with noise and drift, as a transfer function is, and without constraints of single parameters", () => {
    const fit = fresh();
    fit.follow(record);
    fit.draft.known.gain = { parameter: "gain", fixed: 1, low: null, high: null };
    Object.assign(fit.draft, { noise: "autoregression", drift: true });
    fit.chooseKind("matrix");
    expect(fit.options.value).toMatchObject({ noise: "autoregression", drift: true, constraints: [] });
    fit.chooseKind("fopdt");
    expect(fit.options.value.cells).toBeUndefined();
    expect(fit.options.value.outputs).toEqual([]);
    expect(fit.options.value.constraints).toHaveLength(1);
  });
});

describe("two fits", () => {
  const matrix: Options = {
    structure: { kind: "matrix" },
    disturbances: ["B.OP", "F.PV"],
    outputs: ["B.PV"],
    constraints: [],
  };
  const lag = { kind: "fopdt" } as const;

  it("are the same whatever the order of their signals", () => {
    const cells = [
      [lag, { kind: "two_lags" } as const, null],
      [lag, lag, lag],
    ];
    const turned = [
      [lag, null, { kind: "two_lags" } as const],
      [lag, lag, lag],
    ];
    const other: Options = { ...matrix, disturbances: ["F.PV", "B.OP"], cells: turned };
    expect(settingsOf(other)).toBe(settingsOf({ ...matrix, cells }));
  });

  it("are the same where cells are left out and where they are what is usual", () => {
    const usual = [
      [lag, lag, lag],
      [lag, lag, lag],
    ];
    expect(settingsOf({ ...matrix, cells: usual })).toBe(settingsOf(matrix));
  });

  it("differ by a cell, by a signal and by the noise", () => {
    const cells = [
      [lag, lag, lag],
      [lag, null, lag],
    ];
    const all = [
      settingsOf(matrix),
      settingsOf({ ...matrix, cells }),
      settingsOf({ ...matrix, outputs: [] }),
      settingsOf({ ...matrix, noise: "integrated" }),
      settingsOf({ ...matrix, structure: lag }),
    ];
    expect(new Set(all).size).toBe(all.length);
  });
});
