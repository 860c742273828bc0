/** What is typed and what is said: points, polynomials, steps of a preparation; and what stays over a reload. */
import { beforeEach, describe, expect, it, vi } from "vitest";
import { nextTick } from "vue";
import { changedPaths } from "../src/lib/differences";
import { pointsText, readPoints } from "../src/lib/points";
import { FORMS, stepInWords, type Operation } from "../src/lib/preparation";
import { eventOf, lastName } from "../src/lib/refused";

describe("points as text", () => {
  it("are read as they are written", () => {
    const points: [number, number][] = [
      [0, 20],
      [60.5, -3.25],
      [1e-3, 1e6],
    ];
    expect(readPoints(pointsText(points))).toEqual(points);
  });

  it.each([
    [
      "0: 1; 2: 3",
      [
        [0, 1],
        [2, 3],
      ],
    ],
    [
      "0 1\n\n 2   3 ",
      [
        [0, 1],
        [2, 3],
      ],
    ],
    ["", []],
  ])("%j is taken", (text, points) => expect(readPoints(text)).toEqual(points));

  it.each(["0", "1: 2: 3", "a: 1", "1: b", "0: 1\n2"])("%j is refused as a whole", (text) => {
    expect(readPoints(text)).toBeNull();
  });
});

describe("the place of a refusal", () => {
  it.each([
    ["candidate.controller.gain", "gain"],
    ["scenario.events[2].at", "at"],
    ["plant.sensor", "sensor"],
    ["elements[3]", "elements"],
    ["/plant/process", "process"],
    ["gain", "gain"],
  ])("%s is the entry %s", (path, name) => expect(lastName(path)).toBe(name));

  it.each([
    ["scenario.events[0].at", 0],
    ["scenario.events[17]", 17],
    ["scenario.events.3.by", 3],
    ["/scenario/events/4/by", 4],
    ["candidate.controller.gain", null],
  ])("%s is event %s", (path, index) => expect(eventOf(path)).toBe(index));
});

describe("where two documents differ", () => {
  it("is told by paths, the deepest that tell it", () => {
    expect(changedPaths({ a: 1, b: { c: 2, d: [1, 2] } }, { a: 1, b: { c: 3, d: [1, 5] } })).toEqual([
      "/b/c",
      "/b/d/1",
    ]);
    expect(changedPaths({ a: 1 }, { a: 1 })).toEqual([]);
    expect(changedPaths({ a: { b: 1 } }, { a: null })).toEqual(["/a"]);
    expect(changedPaths({ a: [1] }, { a: { 0: 1 } })).toEqual(["/a"]);
    expect(changedPaths({ a: [1, 2] }, { a: [1] })).toEqual(["/a/1"]);
    expect(changedPaths({ a: NaN }, { a: NaN })).toEqual([]);
    expect(changedPaths(undefined, { a: 1 })).toEqual([""]);
  });
});

describe("the steps of a preparation", () => {
  it.each(Object.entries(FORMS))("%s begins with what it asks for, and is said in words", (kind, form) => {
    const operation = form.begin([100, 400], 2) as Operation & Record<string, unknown>;
    expect(operation.kind).toBe(kind);
    // Each question has its answer in the document, and nothing else stands in it.
    const asked = form.asks.map((ask) => ask.key);
    expect(
      Object.keys(operation)
        .filter((key) => key !== "kind")
        .sort(),
    ).toEqual([...asked].sort());
    for (const ask of form.asks) {
      const answer = operation[ask.key];
      if (ask.choices) expect(ask.choices.map(([value]) => value)).toContain(String(answer));
      else if (ask.kind === "boolean") expect(typeof answer).toBe("boolean");
      else if (ask.kind === undefined || ask.kind === "number")
        expect(ask.optional ? [null, "number"] : ["number"]).toContain(
          answer === null ? null : typeof answer,
        );
      if (ask.unless) expect(asked).toContain(ask.unless);
    }
    const words = stepInWords(operation);
    expect(words).not.toMatch(/undefined|null|NaN|\[object/);
    expect(words).not.toContain("_");
  });

  it("name the signal and the size that they are about", () => {
    expect(stepInWords({ kind: "shift", tag: "TIC-1.PV", by: 2 })).toBe("Shift of TIC-1.PV by 2");
    expect(stepInWords({ kind: "remove", tag: null, what: "offset" })).toBe("Remove the mean");
    expect(stepInWords({ kind: "compute", tag: "X", unit: "", role: "dv", formula: "{A} - {B}" })).toBe(
      "X = {A} - {B}",
    );
  });

  it("a window begins with the stretch in sight", () => {
    expect(FORMS.window.begin([12, 34], 1)).toEqual({ kind: "window", from: 12, to: 34 });
    expect(FORMS.cut_out.begin([12, 34], 1)).toEqual({ kind: "cut_out", from: 12, to: 34 });
  });
});

describe("what is kept", () => {
  const store = new Map<string, string>();
  let isFull = false;
  beforeEach(() => {
    store.clear();
    isFull = false;
    vi.resetModules();
    vi.stubGlobal("sessionStorage", {
      getItem: (key: string) => store.get(key) ?? null,
      setItem: (key: string, value: string) => {
        if (isFull) throw new Error("full");
        store.set(key, value);
      },
      removeItem: (key: string) => store.delete(key),
    });
  });
  const load = async () => (await import("../src/lib/kept")).useKept;

  it("is there again when the step is left and after a reload", async () => {
    let useKept = await load();
    const typed = useKept("reason", () => "");
    typed.value = "fits best";
    await nextTick();
    expect(useKept("reason", () => "").value).toBe("fits best");
    vi.resetModules();
    useKept = await load();
    expect(useKept("reason", () => "").value).toBe("fits best");
    expect(useKept("other", () => "first").value).toBe("first");
  });

  it("follows changes inside a value, and goes when it is nothing", async () => {
    let useKept = await load();
    const draft = useKept<{ gain: number } | null>("draft", () => ({ gain: 1 }));
    if (draft.value) draft.value.gain = 2;
    await nextTick();
    vi.resetModules();
    useKept = await load();
    const again = useKept<{ gain: number } | null>("draft", () => null);
    expect(again.value).toEqual({ gain: 2 });
    again.value = null;
    await nextTick();
    expect(store.size).toBe(0);
  });

  it("survives a store that is full or holds what cannot be read", async () => {
    const useKept = await load();
    isFull = true;
    const typed = useKept("reason", () => "");
    typed.value = "long";
    await nextTick();
    expect(useKept("reason", () => "").value).toBe("long");
    store.set("antistasis broken", "{");
    expect(useKept("broken", () => 7).value).toBe(7);
  });
});
