/** A physical model to be: its channels and numbers; its balance as panels. */
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { Schemas } from "../src/api/client";
import type { PhysicalDraft } from "../src/model/usePhysical";

vi.mock("../src/lib/theme", () => ({ colour: (name: string) => name }));
vi.stubGlobal("sessionStorage", {
  getItem: () => null,
  setItem: () => undefined,
  removeItem: () => undefined,
});

const quantity = (name: string, unit: string, value: number) => ({
  name,
  unit,
  value,
  text: "",
  low: 0,
  high: 1e6,
});
const begun = {
  options: {
    process: { structure: "library", process: "stirred_heater", parameters: {} },
    inputs: [{ input: "power", tag: "T.OP", range: [0, 600] }],
    outputs: [{ output: "liquid_temperature", tag: "T.PV" }],
    sought: [],
  },
  description: {
    inputs: [quantity("power", "kW", 250), quantity("feed_flow", "t/h", 6)],
    outputs: [quantity("liquid_temperature", "°C", 0), quantity("element_temperature", "°C", 0)],
    parameters: [quantity("holdup", "kg", 400), quantity("loss", "kW/K", 0.15)],
    drive: { input: "power", at_0: 0, at_100: 600 },
  },
};
const asked = vi.hoisted(() => ({ bodies: [] as unknown[] }));
vi.mock("../src/api/client", async (original) => ({
  ...(await original<object>()),
  api: {
    POST: (path: string, { body }: { body: unknown }) => {
      asked.bodies.push(body);
      return path.endsWith("/physical") ? begun : { verdicts: [] };
    },
  },
  answered: (answer: unknown) => Promise.resolve(answer),
}));

const { valueAt } = await import("../src/lib/stripData");
const { balancePanelsOf, closureOf, stacked } = await import("../src/model/balances");
const { usePhysical } = await import("../src/model/usePhysical");

let loop = 0;
let draft: PhysicalDraft;
beforeEach(async () => {
  loop += 1;
  draft = usePhysical(`T-${loop}`);
  await draft.begin("r1", begun.options.process as never);
});

describe("what is known and sought", () => {
  const row = (title: string) => draft.rows.value.find((one) => one.title === title)!;

  it("lists parameters, dead times, lags and offsets, each with its value", () => {
    expect(draft.rows.value.map(({ title }) => title)).toEqual([
      "holdup",
      "loss",
      "dead time of power",
      "rangeability of the valve of power",
      "sensor lag of liquid temperature",
      "offset of liquid temperature",
    ]);
    expect(row("holdup").known).toBe(400);
  });

  it("has a valve with or without a characteristic, which is sought like any number and goes with its channel", () => {
    const valve = () => row("rangeability of the valve of power");
    expect(valve().known).toBeNull();
    draft.set(valve(), "value", 25);
    expect(draft.options.value?.inputs[0]?.rangeability).toBe(25);
    draft.set(valve(), "value", null);
    expect(draft.options.value?.inputs[0]?.rangeability).toBeNull();
    draft.seek(valve(), true);
    expect(draft.options.value?.sought).toEqual([{ kind: "rangeability", name: "power" }]);
    draft.mapInput("power", { tag: "P.PV", unit: "kW" });
    expect(draft.options.value?.sought).toEqual([]);
    expect(draft.rows.value.some(({ kind }) => kind === "rangeability")).toBe(false);
  });

  it("is sought and known again; bounds belong to what is sought", () => {
    draft.seek(row("loss"), true);
    draft.set(row("loss"), "low", 0.01);
    draft.set(row("loss"), "value", 0.1);
    expect(draft.options.value?.sought).toEqual([{ kind: "parameter", name: "loss", low: 0.01, value: 0.1 }]);
    draft.seek(row("loss"), false);
    expect(draft.options.value?.sought).toEqual([]);
  });

  it("puts what is known into the process, the channel or the sensor", () => {
    draft.set(row("holdup"), "value", 140);
    draft.set(row("dead time of power"), "value", 24);
    draft.set(row("sensor lag of liquid temperature"), "value", 4);
    const own = draft.options.value!;
    expect(own.process).toMatchObject({ parameters: { holdup: 140 } });
    expect([own.inputs[0]?.dead_time, own.outputs[0]?.lag]).toEqual([24, 4]);
    expect(row("holdup").known).toBe(140);
  });
});

describe("channels", () => {
  it("give a channel in % the usual values at 0 and 100 %, others none", () => {
    draft.mapInput("power", null);
    expect(draft.options.value?.inputs).toEqual([]);
    draft.mapInput("power", { tag: "T.OP", unit: "%" });
    expect(draft.options.value?.inputs).toEqual([{ input: "power", tag: "T.OP", range: [0, 600] }]);
    draft.mapInput("feed_flow", { tag: "F.PV", unit: "t/h" });
    expect(draft.options.value?.inputs.at(-1)).toEqual({ input: "feed_flow", tag: "F.PV" });
  });

  it("take what was sought of a signal with them", () => {
    draft.seek(
      draft.rows.value.find((one) => one.kind === "dead_time")!,
      true,
    );
    draft.seek(
      draft.rows.value.find((one) => one.kind === "offset")!,
      true,
    );
    draft.mapInput("power", null);
    draft.mapOutput("liquid_temperature", null);
    expect(draft.options.value?.sought).toEqual([]);
  });

  it("show one output each", () => {
    draft.mapOutput("element_temperature", "T.PV");
    expect(draft.options.value?.outputs).toEqual([{ output: "element_temperature", tag: "T.PV" }]);
  });

  it("what was told is about other settings as soon as one changes", async () => {
    await draft.tell({} as never);
    expect(draft.telling.value).not.toBeNull();
    draft.mapOutput("element_temperature", "T.PV");
    await Promise.resolve();
    expect(draft.telling.value).toBeNull();
  });
});

const balance = {
  name: "energy",
  unit: "kW",
  times: [5, 15],
  terms: [
    { name: "power", kind: "in", values: [300, 320] },
    { name: "feed", kind: "in", values: [100, -20] },
    { name: "loss", kind: "lost", values: [10, 12] },
  ],
  stored: [1, 2],
  left_over: [0.5, -0.5],
  noise_band: 1,
  totals: [3_600_000, 3_500_000, 90_000, 10_000],
  verdict: { tone: "good", text: "closes", rule: "" },
} as unknown as Schemas["BalanceOverTime"];

describe("a balance", () => {
  it("is laid on each other, what turns round downwards, and read by its own share", () => {
    const [power, feed] = stacked(balance.terms.slice(0, 2), balance.times);
    expect([power?.floor, power?.values]).toEqual([
      [0, 0],
      [300, 320],
    ]);
    expect([feed?.floor, feed?.values]).toEqual([
      [300, 0],
      [400, -20],
    ]);
    expect(valueAt(feed!, 6)).toBe(100);
    expect(power?.dash).not.toEqual(feed?.dash);
  });

  it("has what came in, went out, was stored and is left over, with the band of the noise", () => {
    const panels = balancePanelsOf(balance, 100);
    expect(panels.map(({ key }) => key)).toEqual(["in", "out", "stored", "left"]);
    expect(panels[0]?.curves[0]?.times).toEqual([105, 115]);
    expect(panels[3]?.curves[1]?.half).toEqual([1, 1]);
  });

  it("tells its totals in a unit that reads well", () => {
    expect(closureOf(balance)).toMatchObject({ came: 1000, unit: "kWh" });
    expect(closureOf({ ...balance, totals: [3.6e7, 3.6e7, 0, 0] })).toMatchObject({ came: 10, unit: "MWh" });
    expect(closureOf({ ...balance, unit: "m³/s", totals: [5, 4, 1, 0] })).toMatchObject({
      came: 5,
      unit: "m³",
    });
  });
});
