/** From trials, traces and records to panels, marks and rows of the trail. */
import fc from "fast-check";
import { describe, expect, it, vi } from "vitest";
import type { Schemas, Trial, TrialRow } from "../src/api/client";

vi.mock("../src/api/client", () => ({ api: {}, answered: () => Promise.reject(new Error("no server")) }));

const course = await import("../src/control/course");
const { against, allMetricsFor, isComparable, metricsFor } = await import("../src/lib/comparison");
const { between } = await import("../src/lib/strip");
const { recordPanels, withOverlay, planPanels } = await import("../src/measure/panels");
const { channelsInWords } = await import("../src/measure/files");
const { FORMS, stepInWords } = await import("../src/lib/preparation");
const { READS } = await import("../src/control/kpis");
type Trace = Schemas["Trace"];
type Column = Schemas["Column"];

const column = (tag: string, role: Column["role"], unit: string, values: number[]) =>
  ({ tag, role, unit, values }) as Column;

function traceOf(...further: Column[]): Trace {
  return {
    scan: 2,
    columns: [
      column("TIC-1.PV", "process_variable", "°C", [50, 50, 51, 53]),
      column("TIC-1.SP", "set_point", "°C", [50, 55, 55, 55]),
      column("TIC-1.OP", "output", "%", [40, 60, 100, 100]),
      ...further,
    ],
    output_limits: { low: 0, high: 100 },
    happenings: [],
    stopped: null,
  } as unknown as Trace;
}

const trialOf = (controller: object = { kind: "pid" }): Trial =>
  ({
    plant: {
      pv: { tag: "TIC-1.PV", span: { low: 0, high: 100, unit: "°C" } },
      op: { tag: "TIC-1.OP" },
    },
    candidate: { controller },
    scenario: { duration: 60, scan: 2, events: [{ kind: "set_point_step", at: 2, by: 5 }] },
  }) as unknown as Trial;

const drawn = (trace: Trace) => ({ name: "A", trace, colour: "--pv", dash: [] });
const panels = (trace: Trace, extra: string[] = [], under: Trace[] = [], trial = trialOf()) =>
  course.coursePanels(trial, drawn(trace), undefined, under.map(drawn), new Set(extra));
const titles = (list: { title: string }[]) => list.map((panel) => panel.title);

describe("the course of a trial", () => {
  it("shows PV with set point and OP with its limits, at the times of the scans", () => {
    const [pv, op, ...rest] = panels(traceOf());
    expect(rest).toEqual([]);
    expect([pv!.title, pv!.unit, op!.title, op!.unit]).toEqual(["TIC-1.PV", "°C", "TIC-1.OP", "%"]);
    expect(pv!.curves.map((curve) => curve.label)).toEqual(["A", "SP"]);
    expect(pv!.curves[0]!.times).toEqual([0, 2, 4, 6]);
    expect(op!.limits).toEqual(between(0, 100));
    // The PV is what the eye goes to.
    expect(pv!.weight).toBeGreaterThan(op!.weight);
  });

  it("in manual has no set point, and no band of recovery", () => {
    const load = { at: 2, recovery_band: 1 };
    const inManual = course.coursePanels(trialOf({ kind: "manual" }), drawn(traceOf()), load, [], new Set());
    expect(inManual[0]!.curves).toHaveLength(1);
    expect(inManual[0]!.bands).toEqual([]);
    const inAutomatic = course.coursePanels(trialOf(), drawn(traceOf()), load, [], new Set());
    expect(inAutomatic[0]!.bands).toEqual([{ from: 2, to: 6, low: 54, high: 56 }]);
  });

  it("shows a load only where there is one, and each disturbance in its unit", () => {
    const still = column("load", "load", "%", [0, 0, 0, 0]);
    const moves = column("load", "load", "%", [0, 0, -5, -5]);
    const feed = column("feed_flow", "disturbance", "m³/h", [8, 8, 9, 9]);
    expect(titles(panels(traceOf(still)))).toEqual(["TIC-1.PV", "TIC-1.OP"]);
    const shown = panels(traceOf(moves, feed));
    expect(titles(shown)).toEqual(["TIC-1.PV", "TIC-1.OP", "load", "feed flow"]);
    expect(shown[3]!.unit).toBe("m³/h");
    expect(shown[3]!.curves[0]!.fillTo).toBe(8);
  });

  it("adds what is asked for, and nothing else", () => {
    const terms = ["proportional term", "integral term"].map((tag) =>
      column(tag, "controller_term", "%", [1, 2, 3, 4]),
    );
    const learned = column("adaptive gain", "controller_term", "", [1, 1, 1, 2]);
    const truth = column("TIC-1.PV, true", "true_value", "°C", [50, 50, 51, 53]);
    const level = column("tank_level", "process_output", "m", [1, 1, 1, 1]);
    const trace = traceOf(...terms, learned, truth, level);
    expect(course.furtherColumns(trace).map((known) => known.tag)).toEqual([
      "adaptive gain",
      "TIC-1.PV, true",
      "tank_level",
    ]);
    expect(panels(trace)).toHaveLength(2);
    const all = panels(trace, [course.ERROR, course.TERMS, truth.tag, level.tag, learned.tag]);
    expect(titles(all)).toEqual([
      "TIC-1.PV",
      "TIC-1.OP",
      course.ERROR,
      course.TERMS,
      "adaptive gain",
      "tank level",
    ]);
    expect(all[0]!.curves.map((curve) => curve.label)).toContain("true");
    expect(all[2]!.curves[0]!.values).toEqual([0, 5, 4, 2]);
    expect(all[2]!.include).toEqual([0]);
    // The terms are told apart without colour.
    expect(new Set(all[3]!.curves.map((curve) => JSON.stringify(curve.dash))).size).toBe(2);
  });

  it("lays other trials under, faintly, each on its own times", () => {
    const other = { ...traceOf(), scan: 1 } as Trace;
    const [pv] = panels(traceOf(), [], [other]);
    const laid = pv!.curves.filter((curve) => curve.faint);
    expect(laid).toHaveLength(1);
    expect(laid[0]!.times).toEqual([0, 1, 2, 3]);
  });

  it("calls out what was not simulated", () => {
    const trace = {
      ...traceOf(),
      stopped: { at: 6, reason: "the level is not a number" },
    } as unknown as Trace;
    expect(panels(trace)[0]!.shades).toEqual([{ from: 6, to: 60, colour: "--limit" }]);
    const marks = course.courseMarks(trialOf(), null, trace, true);
    expect(marks.map((mark) => mark.label)).toEqual(["SP +5 °C", "▲ stopped"]);
  });

  it("marks events that can be drawn, and only so many of what happened by itself", () => {
    const trace = {
      ...traceOf(),
      happenings: Array.from({ length: 40 }, (_, k) => ({ at: k, text: "the tank spills" })),
    } as unknown as Trace;
    const marks = course.courseMarks(trialOf(), null, trace, true);
    expect(marks[0]).toMatchObject({ time: 2, key: "event 0" });
    expect(marks.filter((mark) => mark.label === "△ the tank spills")).toHaveLength(6);
    expect(course.courseMarks(trialOf(), null, trace, false)[0]!.key).toBeUndefined();
    const learning = trialOf({ kind: "self_tuning", identification_time: 30 });
    expect(course.courseMarks(learning, null, null, false).at(-1)).toMatchObject({
      time: 30,
      label: "learning ends",
    });
    const learns = { lasts: 20, amplitude: 2, clock: 5 };
    const ends = (more: object) => {
      const own = {
        kind: "predictive",
        cvs: [],
        mvs: [],
        horizon: 10,
        moves: [1],
        learns: { ...learns, ...more },
      };
      const marks = course.courseMarks(trialOf(own), null, null, false);
      return marks.filter((mark) => mark.label === "learning ends").map((mark) => mark.time);
    };
    expect(ends({})).toEqual([20]);
    // Begun anew every 25 s of a minute: the third is not over by its end.
    expect(ends({ again_after: 25 })).toEqual([20, 45]);
  });

  it("shows every balance with what is stored, in a unit that reads well", () => {
    const sizes = fc.double({ min: 1, max: 5e8, noNaN: true });
    fc.assert(
      fc.property(sizes, fc.constantFrom("J/s", "W", "kJ/s", "kW"), (size, unit) => {
        const trace = {
          ...traceOf(
            column("Contents: steam", "balance_term", unit, [0, size, -size, 0]),
            column("Contents: losses", "balance_term", unit, [0, 0, 0, 0]),
            column("Contents: stored", "balance_stored", unit, [0, size, -size, 0]),
          ),
          balances: [{ name: "Contents" }],
        } as unknown as Trace;
        const [pv, sheet] = course.balancePanels(trialOf(), trace);
        expect(pv!.title).toBe("TIC-1.PV");
        expect(sheet!.title).toBe("Contents balance");
        expect(sheet!.curves.map((curve) => curve.label)).toEqual(["stored", "steam", "losses"]);
        const watts = { "J/s": 1, W: 1, "kJ/s": 1e3, kW: 1e3 }[unit] as number;
        const shown = { W: 1, kW: 1e3, MW: 1e6 }[sheet!.unit] as number;
        const value = sheet!.curves[1]!.values[1]!;
        expect((value * shown) / (size * watts)).toBeCloseTo(1, 9);
        expect(value).toBeLessThan(sheet!.unit === "MW" ? 1e9 : 1000.001);
      }),
    );
  });
});

const row = (id: string, plant: object, scenario: object, assessment: object) =>
  ({ id, trial: { plant, scenario }, assessment }) as unknown as TrialRow;
const assessment = (iae: number, ms: number, overshoot: number | null = null) => ({
  metrics: {
    loads: { integral_absolute_error: iae, max_deviation: 1, recovery_time: null },
    set_point_responses: overshoot === null ? [] : [{ overshoot_percent: overshoot, settling_time_5: 40 }],
    output_travel: 12,
  },
  margins: { max_sensitivity: ms, gain_margin: 3 },
});

describe("the trail", () => {
  const metrics = metricsFor("°C");
  const metric = (key: string) => allMetricsFor("°C").find((known) => known.key === key)!;

  it("names each figure with its unit, once", () => {
    const all = allMetricsFor("°C");
    expect(new Set(all.map((known) => known.key)).size).toBe(all.length);
    expect(all.slice(0, metrics.length).map((known) => known.key)).toEqual(metrics.map((known) => known.key));
    expect(metric("iae").unit).toBe("°C·s");
    expect(metric("ise").unit).toBe("°C²·s");
  });

  it("compares trials on one plant and in one scenario, figures of the loop on one plant", () => {
    const [plant, other] = [{ gain: 1 }, { gain: 2 }];
    const [scenario, longer] = [{ duration: 60 }, { duration: 90 }];
    const pinned = row("a", plant, scenario, assessment(10, 1.6));
    const same = row("b", { gain: 1 }, { duration: 60 }, assessment(12, 1.6));
    const elsewhere = row("c", plant, longer, assessment(12, 1.8));
    const strange = row("d", other, scenario, assessment(12, 1.8));
    const of = (known: TrialRow) =>
      [metric("iae"), metric("ms")].map((key) => isComparable(key, known, pinned));
    expect([same, elsewhere, strange].map(of)).toEqual([
      [true, true],
      [false, true],
      [false, false],
    ]);
    expect(against(metric("iae"), strange, pinned)).toBeNull();
    expect(against(metric("ms"), elsewhere, pinned)).toEqual({ text: "▲0.2", better: false });
  });

  it("tells better from worse by the figure's own sense, and nothing where nothing changed", () => {
    const plant = {};
    const change = fc.double({ min: -0.9, max: 9, noNaN: true });
    fc.assert(
      fc.property(fc.double({ min: 1e-3, max: 1e6, noNaN: true }), change, (base, share) => {
        const value = base * (1 + share);
        const pinned = row("a", plant, plant, assessment(base, 1.6));
        const found = against(metric("iae"), row("b", plant, plant, assessment(value, 1.6)), pinned);
        if (Math.abs(share) < 4.9e-3) expect(found).toBeNull();
        if (Math.abs(share) > 5.1e-3) {
          expect(found!.better).toBe(share < 0);
          expect(found!.text.startsWith(share > 0 ? "▲" : "▼")).toBe(true);
        }
      }),
    );
    const [low, high] = [2, 4].map((gain_margin) =>
      row("m", plant, plant, { ...assessment(1, 1), margins: { gain_margin } }),
    ) as [TrialRow, TrialRow];
    expect(against(metric("gain-margin"), high, low)!.better).toBe(true);
    expect(against(metric("gain-margin"), low, high)!.better).toBe(false);
  });

  it("says nothing of a figure that a trial does not have", () => {
    const [a, b] = [assessment(1, 1.5), assessment(1, 1.5, 8)].map((known) => row("x", {}, {}, known));
    expect(metric("overshoot").read(a!.assessment)).toBeUndefined();
    expect(metric("overshoot").read(b!.assessment)).toBe(8);
    expect(against(metric("overshoot"), b!, a!)).toBeNull();
    expect(against(metric("recovery"), b!, a!)).toBeNull();
  });

  it("reads the figures of any signal with their units", () => {
    const metricsOf = {
      unit: "kW",
      mean: 1,
      integral_time_absolute_error: 3,
      outside: { time: 4, area: 5, violations: 6 },
      used: { amount: 7, unit: "kWh" },
    } as never;
    const figures = ["mean", "ITAE", "time outside", "area outside", "violations", "used", "ISE", "offset"];
    expect(figures.map((name) => READS[name]!.read(metricsOf))).toEqual([
      ...[1, 3, 4, 5, 6, 7],
      ...[undefined, undefined],
    ]);
    expect(figures.map((name) => READS[name]!.unit(metricsOf))).toEqual([
      ...["kW", "kW·s²", "s", "kW·s", "", "kWh", "kW²·s", "kW"],
    ]);
  });
});

describe("a record on the strip", () => {
  const samples = (values: number[], op = [40, 40, 60, 60]) =>
    ({
      times: [0, 1, 2, 3],
      channels: [
        { tag: "TIC-1.OP", role: "op", unit: "%", values: op },
        { tag: "TIC-1.PV", role: "pv", unit: "°C", values },
        { tag: "TIC-1.SP", role: "sp", unit: "°C", values: [50, 50, 50, 50] },
        { tag: "FI-7.PV", role: "dv", unit: "m³/h", values: [8, 8, 9, 9] },
      ],
    }) as unknown as Schemas["Samples"];

  it("has the PV first with its set point, the OP within its limits, disturbances as they act", () => {
    const [pv, op, dv] = recordPanels(samples([50, 51, 52, 53]), null, [[1, 2]], null);
    expect([pv!.title, op!.title, dv!.title]).toEqual(["TIC-1.PV", "TIC-1.OP", "FI-7.PV"]);
    expect(pv!.curves.map((curve) => curve.label)).toEqual(["PV", "SP"]);
    expect(op!.limits).toEqual(between(0, 100));
    expect(dv!.curves[0]!.stepped).toBe(true);
    expect(pv!.shades).toEqual([{ from: 1, to: 2, colour: "--limit" }]);
  });

  it("shows what a preparation changed beside what was there, and only there", () => {
    const after = recordPanels(samples([50, 50.5, 51, 52]), samples([50, 51, 52, 53]), [], null);
    expect(after[0]!.curves.map((curve) => curve.label)).toEqual(["before", "PV", "SP"]);
    expect(after[0]!.curves[0]!.faint).toBe(true);
    expect(after[2]!.curves).toHaveLength(1);
  });

  it("lays another record under in the same units only", () => {
    const list = recordPanels(samples([50, 51, 52, 53]), null, [], null);
    const laid = withOverlay(list, { name: "March" }, samples([1, 2, 3, 4]), 5);
    expect(laid[0]!.curves.at(-1)).toMatchObject({ label: "March", values: [1, 2, 3, 4], dash: [2, 3] });
    const inKelvin = samples([1, 2, 3, 4]);
    inKelvin.channels[1]!.unit = "K";
    expect(withOverlay(list, { name: "March" }, inKelvin, 0)[0]).toBe(list[0]);
  });

  it("a plan covers all of what is allowed", () => {
    const plan = { times: [0, 1], pv: [50, 52], pv_half_width: [1, 1], op: [40, 45] } as never;
    const loop = { pv: { tag: "PV", span: { unit: "°C" } }, op: { tag: "OP" } } as never;
    const [pv, op] = planPanels(plan, loop, { pv_range: [45, 60], op_range: [20, 80] } as never);
    expect([pv!.include, op!.include]).toEqual([
      [45, 60],
      [20, 80],
    ]);
    expect(pv!.curves[0]!.half).toEqual([1, 1]);
  });

  it("says in a few words which channels it has", () => {
    const of = (roles: string) => channelsInWords(roles.split(" ").map((role) => ({ role }) as never));
    expect(of("pv op sp other other")).toBe("PV, OP, SP, 2 other");
    expect(of("dv pv dv op")).toBe("PV, OP, 2 DV");
    expect(channelsInWords([])).toBe("");
  });
});

describe("the steps of a preparation", () => {
  const kinds = Object.keys(FORMS) as (keyof typeof FORMS)[];

  it("of every kind begin with what they ask for, and read in words", () => {
    for (const kind of kinds) {
      const begun = FORMS[kind].begin([10, 90], 2);
      expect(begun.kind).toBe(kind);
      for (const ask of FORMS[kind].asks) {
        expect(begun, `${kind}.${ask.key}`).toHaveProperty(ask.key);
        const value = (begun as unknown as Record<string, unknown>)[ask.key];
        if (ask.choices) expect(ask.choices.map(([choice]) => choice)).toContain(String(value));
        if (ask.kind === "boolean") expect(typeof value).toBe("boolean");
        if (!ask.kind && !ask.choices && !ask.optional) expect(typeof value).toBe("number");
        if (ask.unless) expect(FORMS[kind].asks.map((other) => other.key)).toContain(ask.unless);
      }
      expect(stepInWords(begun)).not.toMatch(/undefined|null|NaN/);
    }
  });

  it("begin with what is in sight, and with times that the samples allow", () => {
    expect(FORMS.window.begin([10, 90], 2)).toEqual({ kind: "window", from: 10, to: 90 });
    expect(FORMS.resample.begin([0, 1], 2)).toMatchObject({ interval: 4 });
    // A filter on one signal alone would become part of the model.
    expect(FORMS.low_pass.begin([0, 1], 2)).toMatchObject({ all: true, time_constant: 10 });
  });

  it("say of which channel they are", () => {
    const outliers = { ...FORMS.outliers.begin([0, 1], 1), tag: "TIC-1.PV" } as never;
    expect(stepInWords(outliers)).toBe("Outliers of TIC-1.PV beyond 4 × noise");
    const filter = FORMS.low_pass.begin([0, 1], 1);
    expect(stepInWords(filter)).toBe("Low-pass of all channels 5 s");
    expect(stepInWords({ ...filter, all: false, tag: "TIC-1.PV" } as never)).toBe("Low-pass of TIC-1.PV 5 s");
  });
});

describe("several loops", () => {
  const loops = async () => await import("../src/control/loops");
  const wide = (): Trial =>
    ({
      plant: {
        pv: { tag: "TIC-1.PV", span: { low: 0, high: 100, unit: "°C" } },
        op: { tag: "TIC-1.OP" },
        further_measured: [{ tag: "FIC-2.PV", output: "flow", span: { low: 0, high: 9, unit: "t/h" } }],
        further_driven: [{ tag: "FIC-2.OP", input: "valve", at_0: 0, at_100: 9, at_start: 40 }],
      },
      candidate: {
        controller: { kind: "pid", gain: 1, feed_forward: { signal: "FIC-2.OP", gain: 0.5 } },
        further: [
          {
            name: "FIC-2",
            measures: "FIC-2.PV",
            sets: [{ to: "FIC-2.OP" }],
            controller: { kind: "pid", gain: 2 },
          },
        ],
      },
      scenario: {
        duration: 60,
        scan: 2,
        events: [{ kind: "set_point_step", at: 2, by: 5 }],
        further: { "FIC-2": [{ kind: "set_point_step", at: 20, by: 1 }] },
      },
    }) as unknown as Trial;

  it("stand below each other on the strip, each with its set point, and their events are told apart", () => {
    const of = (tag: string, role: Column["role"], unit: string, values: number[]) => ({
      ...column(tag, role, unit, values),
      of: "FIC-2",
    });
    const trace = traceOf(
      of("FIC-2.SP", "set_point", "t/h", [4, 4, 5, 5]),
      of("FIC-2.PV", "process_variable", "t/h", [4, 4, 4, 5]),
      of("FIC-2.OP", "output", "%", [40, 40, 50, 50]),
      of("FIC-2 puts out", "controller_term", "%", [40, 41, 50, 60]),
    );
    const shown = panels(trace, [], [], wide());
    expect(titles(shown)).toEqual(["TIC-1.PV", "TIC-1.OP", "FIC-2.PV", "FIC-2.OP", "FIC-2 puts out"]);
    expect(shown[2]!.curves.map((curve) => curve.label)).toEqual(["A", "SP"]);
    // What the first loop is judged by is its own.
    expect(shown[0]!.curves[0]!.values).toEqual([50, 50, 51, 53]);
    const marks = course.courseMarks(wide(), null, null, true);
    expect(marks.map((mark) => mark.key)).toEqual(["event 0", "event 0 FIC-2"]);
    expect(marks[1]!.label).toContain("FIC-2: ");
    expect(marks[1]!.label).toContain("t/h");
    // Each is drawn through the panels of its own loop, a load on an input through all.
    const drawn = course.courseMarks(wide(), null, trace, true);
    expect(drawn[0]!.panels).toEqual(["pv", "op", "load"]);
    expect(drawn[1]!.panels).toEqual(["FIC-2.SP", "FIC-2.PV", "FIC-2.OP", "FIC-2 puts out"]);
    const loaded = wide();
    loaded.scenario.events = [{ kind: "load_step", at: 3, by: 1, input: "feed" }];
    expect(course.courseMarks(loaded, null, trace, true)[0]!.panels).toBeUndefined();
    expect(course.courseMarks(trialOf(), null, traceOf(), true)[0]!.panels).toBeUndefined();
  });

  it("are read and changed one by one", async () => {
    const { eventsOf, loopsOf, measuredOf, readFrom, settableTags, wiresOf } = await loops();
    const trial = wide();
    expect(loopsOf(trial).map((loop) => loop.name)).toEqual(["TIC-1", "FIC-2"]);
    expect(measuredOf(trial, "FIC-2").span.unit).toBe("t/h");
    expect(readFrom(trial, "FIC-2").scenario.events).toEqual(trial.scenario.further!["FIC-2"]);
    expect(readFrom(trial, "")).toBe(trial);
    expect(wiresOf(trial, "")).toEqual([{ to: "TIC-1.OP" }]);
    // A controller sets OPs, and the set points of the others.
    expect(settableTags(trial, "FIC-2")).toEqual(["TIC-1.OP", "FIC-2.OP", "TIC-1.SP"]);
    // Events of a loop that had none get a list of their own, and none of the others is touched.
    trial.scenario.further = {};
    eventsOf(trial, "FIC-2").push({ kind: "to_manual", at: 3 });
    expect(trial.scenario.further["FIC-2"]).toHaveLength(1);
    expect(trial.scenario.events).toHaveLength(1);
  });

  it("keep their wires when a signal is renamed", async () => {
    const { setTag } = await loops();
    const trial = wide();
    setTag(trial, "further_driven", 0, "FV-2");
    setTag(trial, "further_measured", 0, "FT-2");
    const [wired] = trial.candidate.further!;
    expect([wired!.measures, wired!.sets[0]!.to]).toEqual(["FT-2", "FV-2"]);
    const { controller } = trial.candidate;
    expect(controller.kind === "pid" && controller.feed_forward?.signal).toBe("FV-2");
  });

  it("read the sensors of inputs, wherever these are named", async () => {
    const { readerOf, setTag, signalTags } = await loops();
    const trial = trialOf();
    expect(signalTags(trial)).toEqual([]);
    const span = { low: 0, high: 40, unit: "m³/h" };
    trial.plant.measured_disturbances = [{ tag: "FI-9", span, input: "feed" }];
    expect(signalTags(trial)).toEqual([{ name: "FI-9", unit: "m³/h" }]);
    expect(readerOf(trial, "FI-9")).toBeNull();
    const { controller } = trial.candidate;
    if (controller.kind === "pid") controller.feed_forward = { signal: "FI-9", gain: -1 };
    expect(readerOf(trial, "FI-9")).toBe("The first controller");
    trial.candidate.ratio = { signal: "FI-9", ratio: 2 };
    trial.scenario.events.push({ kind: "sensor_fails", at: 1, lasts: 2, how: "low", signal: "FI-9" });
    setTag(trial, "measured_disturbances", 0, "FT-10");
    expect(trial.plant.measured_disturbances[0]!.tag).toBe("FT-10");
    expect(controller.kind === "pid" && controller.feed_forward?.signal).toBe("FT-10");
    expect(trial.candidate.ratio.signal).toBe("FT-10");
    expect(trial.scenario.events.at(-1)).toMatchObject({ kind: "sensor_fails", signal: "FT-10" });
    if (controller.kind === "pid") controller.feed_forward = null;
    expect(readerOf(trial, "FT-10")).toBe("The ratio");
    // A planner reads its disturbances.
    const cvs = [{ tag: "TIC-1.PV", output: "T" }];
    trial.candidate.ratio = null;
    trial.candidate.controller = {
      kind: "predictive",
      model: trial.plant.process,
      cvs,
      mvs: [{ tag: "TIC-1.OP", input: "u", usual_move: 1 }],
      dvs: [{ signal: "FT-10", input: "feed" }],
      horizon: 60,
      moves: [1],
    };
    expect(readerOf(trial, "FT-10")).toBe("The first controller");
    setTag(trial, "measured_disturbances", 0, "FT-11");
    expect(
      trial.candidate.controller.kind === "predictive" && trial.candidate.controller.dvs?.[0]?.signal,
    ).toBe("FT-11");
  });
});
