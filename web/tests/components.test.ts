/** What stands on the page: parts of it are written out as HTML, as a server would, with what a loop gives them. */
import { describe, expect, it, vi } from "vitest";
import { createSSRApp, defineComponent, h, type Component } from "vue";
import { renderToString } from "vue/server-renderer";
import type { LoopState } from "../src/lib/loop";

const { loopState } = vi.hoisted(() => ({ loopState: { current: null as unknown } }));
vi.mock("../src/api/client", () => ({ api: {}, answered: () => Promise.reject(new Error("no server")) }));
vi.mock("../src/lib/loop", () => ({
  useLoop: () => ({ state: loopState.current, showOlder: () => undefined }),
}));
vi.stubGlobal("window", globalThis);
vi.stubGlobal("addEventListener", () => undefined);

const ControlTrail = (await import("../src/control/ControlTrail.vue")).default;
const NumberField = (await import("../src/components/NumberField.vue")).default;
const ProblemNote = (await import("../src/components/ProblemNote.vue")).default;
const ShowOlder = (await import("../src/components/ShowOlder.vue")).default;
const UnreadableRows = (await import("../src/components/UnreadableRows.vue")).default;
const VerdictNote = (await import("../src/components/VerdictNote.vue")).default;

async function html(component: Component, props: Record<string, unknown>): Promise<string> {
  const app = createSSRApp(defineComponent({ render: () => h(component, props) }));
  return (await renderToString(app)).replace(/<!--.*?-->/g, "");
}
/** The words alone, as they are read. */
const words = (text: string) =>
  text
    .replace(/<[^>]*>/g, " ")
    .replaceAll("&nbsp;", " ")
    .replace(/\s+/g, " ")
    .trim();

function state(more: Partial<LoopState> = {}): LoopState {
  const nothing = { records: 0, models: 0, trials: 0, proofs: 0 };
  return {
    tag: "TIC-1",
    records: [],
    models: [],
    trials: [],
    inAll: nothing,
    unreadable: nothing,
    ...more,
  } as unknown as LoopState;
}

describe("older rows", () => {
  const shown = async (rows: string, inAll: number, there: number, unreadable = 0) => {
    loopState.current = state({
      inAll: { records: inAll, models: inAll, trials: inAll, proofs: inAll },
      unreadable: { records: unreadable, models: unreadable, trials: unreadable, proofs: unreadable },
      [rows]: Array.from({ length: there }, () => ({})),
    });
    return words(await html(ShowOlder, { rows, note: "pinned ones stand here in any case" }));
  };

  it("are offered where there are any, with how many", async () => {
    expect(await shown("trials", 140, 100)).toBe(
      "Show older 40 trials further back; pinned ones stand here in any case.",
    );
    expect(await shown("records", 101, 100)).toContain("1 record further back");
    expect(await shown("models", 300, 102)).toContain("198 models further back");
  });

  it("are not offered where all are there", async () => {
    expect(await shown("trials", 100, 100)).toBe("");
    expect(await shown("models", 0, 0)).toBe("");
  });

  it("are not those that cannot be read: these have a list of their own", async () => {
    expect(await shown("trials", 100, 98, 2)).toBe("");
    expect(await shown("trials", 140, 98, 2)).toContain("40 trials further back");
    const told = async (count: number) => {
      loopState.current = state({ unreadable: { records: 0, models: 0, trials: count, proofs: 0 } });
      return words(await html(UnreadableRows, { rows: "trials" }));
    };
    expect(await told(0)).toBe("");
    expect(await told(1)).toContain("1 trial cannot be read by this version; nothing of it is lost.");
    expect(await told(2)).toContain("2 trials cannot be read by this version; nothing of them is lost.");
  });
});

describe("the trail of Control", () => {
  const plant = (unit: string) => ({ pv: { tag: "TIC-1.PV", span: { low: 0, high: 100, unit } } });
  const row = (number: number, iae: number, more: Record<string, unknown> = {}, unit = "°C") => ({
    id: `00000000-0000-7000-8000-00000000000${number}`,
    number,
    label: `gain ${number}`,
    remark: "",
    starred: false,
    pinned: false,
    model_id: null,
    trial: { plant: plant(unit), scenario: { duration: 100 } },
    assessment: {
      metrics: { loads: { integral_absolute_error: iae }, set_point_responses: [] },
      margins: null,
    },
    ...more,
  });
  const kpis = { list: { value: [] }, valueOf: () => null, ownUnit: () => "" };
  const trail = async (rows: ReturnType<typeof row>[], more: Record<string, unknown> = {}) => {
    const text = await html(ControlTrail, {
      rows,
      base: rows[0] ?? null,
      pinned: rows.find((own) => own.pinned) ?? null,
      over: new Set<string>(),
      overlays: [],
      pvUnit: "°C",
      kpis,
      actionsOf: () => [],
      ...more,
    });
    return text.split("<tr").slice(2);
  };

  it("names every row by its letter and what it changed", async () => {
    loopState.current = state();
    const rows = await trail([row(2, 40), row(1, 50)]);
    expect(rows).toHaveLength(2);
    expect(words(rows[0] ?? "")).toContain("B gain 2");
    expect(words(rows[1] ?? "")).toContain("A gain 1");
    expect(rows[0]).toContain('aria-label="Trial B, gain 2"');
    expect(rows[0]).toContain('aria-pressed="true"');
    expect(rows[1]).toContain('aria-pressed="false"');
  });

  it("says how a figure stands against the pinned one, by a sign and by words", async () => {
    loopState.current = state();
    const [better, worse, pinned] = await trail([row(3, 40), row(2, 65), row(1, 50, { pinned: true })]);
    expect(words(better ?? "")).toContain("40 ▼10");
    expect(better).toContain("better than the pinned one");
    expect(words(worse ?? "")).toContain("65 ▲15");
    expect(worse).toContain("worse than the pinned one");
    expect(pinned).not.toMatch(/[▲▼]/);
    expect(words(pinned ?? "")).toContain("pinned");
  });

  it("compares nothing across plants, and tells the unit of another one", async () => {
    loopState.current = state();
    const [other] = await trail([row(2, 40, {}, "°F"), row(1, 50, { pinned: true })]);
    expect(other).not.toMatch(/[▲▼]/);
    expect(words(other ?? "")).toContain("40 °F·s");
  });

  it("marks what stands on a model that is stale, what is starred, and what is laid over", async () => {
    loopState.current = state({ models: [{ id: "m", number: 4, stale: true }] as never });
    const rows = [row(2, 40, { model_id: "m", starred: true }), row(1, 50)];
    const [stale, plain] = await trail(rows, {
      overlays: [{ row: rows[1], colour: "--over-1", dash: [7, 4] }],
      over: new Set([rows[1]?.id]),
    });
    expect(stale).toContain("Model D, which it stands on, is stale");
    expect(words(stale ?? "")).toMatch(/△ its model is stale .*★ starred/);
    expect(plain).not.toContain("stale");
    // Told apart without colour: by the dashes of its curve.
    expect(plain).toContain('stroke-dasharray="7 4"');
    expect(plain).toMatch(/aria-pressed="true"[^>]*aria-label="lay over: trial A"/);
  });

  it("shows a dash-free line for what is looked at and none for the rest", async () => {
    loopState.current = state();
    const [base, rest] = await trail([row(2, 40), row(1, 50)]);
    expect(base).toContain("var(--pv)");
    expect(rest).not.toContain("stroke-width");
  });
});

describe("an entry for a number", () => {
  const field = (more: Record<string, unknown>) =>
    html(NumberField, { label: "Gain", unit: "%/%", modelValue: 1.5, ...more });

  it("says its unit and what is allowed", async () => {
    expect(words(await field({ min: 0, exclusive: true }))).toBe("Gain above 0 %/%");
    expect(words(await field({ min: 0, max: 20 }))).toBe("Gain 0 to 20 %/%");
    expect(words(await field({ min: 1 }))).toBe("Gain 1 or more %/%");
    expect(words(await field({ range: "any" }))).toBe("Gain any %/%");
    expect(words(await field({ hint: "of the outer loop" }))).toBe("Gain of the outer loop %/%");
  });

  it("shows the number, a minus as a minus, and what an empty one stands for", async () => {
    expect(await field({})).toContain('value="1.5"');
    expect(await field({ modelValue: -2 })).toContain('value="−2"');
    const empty = await field({ modelValue: null, whenEmpty: "off" });
    expect(empty).toContain('placeholder="off"');
    expect(empty).toContain('value=""');
  });

  it("tells a refusal at the entry", async () => {
    const refused = await field({ problem: "The gain is −1: it must be above 0." });
    expect(refused).toContain('aria-invalid="true"');
    expect(refused).toContain("The gain is −1: it must be above 0.");
    expect(await field({})).toContain('aria-invalid="false"');
  });
});

describe("verdicts and problems", () => {
  it("are told by a word and a shape, not by colour alone", async () => {
    const verdict = (tone: string) =>
      html(VerdictNote, { verdict: { tone, text: "It swings.", rule: "a rule" } });
    expect(words(await verdict("good"))).toBe("It swings.");
    expect(words(await verdict("caution"))).toBe("△ Caution: It swings.");
    expect(words(await verdict("bad"))).toBe("▲ Problem: It swings.");
    expect(await verdict("bad")).toContain('title="Rule: a rule"');
  });

  it("are nothing where nothing is wrong, and text that looks like HTML stays text", async () => {
    expect(await html(ProblemNote, { text: "" })).toBe("");
    expect(await html(ProblemNote, { text: "It is refused." })).toContain('role="alert"');
    expect(await html(ProblemNote, { text: "<b onload=x>" })).toContain("&lt;b onload=x&gt;");
  });
});
