import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { effectScope, nextTick, type EffectScope } from "vue";
import type { Schemas } from "../src/api/client";

type State = Schemas["DossierState"];
/** The server, as it would be: one document with a revision. */
const server = {
  spec: null as State["spec"],
  revision: 0,
  puts: 0,
  outlives: false,
  failure: null as Error | null,
};
const listeners: ((change: unknown) => void)[] = [];

class ApiError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly field?: string,
  ) {
    super(message);
  }
}
const state = (): State => ({
  spec: structuredClone(server.spec),
  revision: server.revision,
  parts: [{ part: "summary", title: "In short" }],
});
vi.mock("../src/api/client", () => ({
  ApiError,
  answered: (answer: unknown) => answer,
  fieldOf: (error: ApiError) => error.field ?? "",
  messageOf: (error: Error) => error.message,
  ifMatch: (revision: number, force = false) => ({ "If-Match": force ? "*" : String(revision) }),
  api: {
    GET: () => Promise.resolve(state()),
    PUT: (
      _: string,
      sent: { params: { header: { "If-Match": string } }; body: State["spec"]; keepalive: boolean },
    ) => {
      server.puts += 1;
      server.outlives = sent.keepalive;
      const revision = sent.params.header["If-Match"];
      if (server.failure) return Promise.reject(server.failure);
      if (revision !== "*" && Number(revision) !== server.revision)
        return Promise.reject(new ApiError("changed meanwhile", 412));
      server.spec = sent.body;
      server.revision += 1;
      return Promise.resolve(state());
    },
  },
}));
vi.mock("../src/lib/live", async () => {
  const { ref } = await import("vue");
  return {
    comebacks: ref(0),
    useChanges: (listener: (change: unknown) => void) => listeners.push(listener),
  };
});
const hooks = { mounted: [] as (() => void)[], left: [] as (() => void)[] };
vi.mock("vue", async (original) => ({
  ...(await original<typeof import("vue")>()),
  onMounted: (act: () => void) => hooks.mounted.push(act),
  onBeforeUnmount: (act: () => void) => hooks.left.push(act),
}));
const { moved, useDossier } = await import("../src/handover/useDossier");

const spec = (purpose: string): NonNullable<State["spec"]> =>
  ({ version: 1, trial: 1, parts: ["summary"], purpose, author: "" }) as unknown as NonNullable<
    State["spec"]
  >;
let scope: EffectScope;
/** What the browser keeps over tabs, and who wants to know that a page goes. */
const browser = new Map<string, string>();
const pages = new Set<() => void>();
const addEventListener = (_: string, act: () => void) => void pages.add(act);
const removeEventListener = (_: string, act: () => void) => void pages.delete(act);

async function opened() {
  const own = scope.run(() => useDossier("TIC-1", () => "loop"));
  if (!own) throw new Error("no scope");
  hooks.mounted.splice(0).forEach((act) => act());
  await settled();
  return own;
}
async function settled() {
  await nextTick();
  await vi.advanceTimersByTimeAsync(0);
}
const type = (own: Awaited<ReturnType<typeof opened>>, text: string) => {
  if (own.spec.value) own.spec.value.purpose = text;
};
const changedElsewhere = async (text: string) => {
  server.spec = spec(text);
  server.revision += 1;
  listeners.at(-1)?.({ kind: "dossier", loop_id: "loop" });
  await settled();
};

describe("the dossier of a loop", () => {
  beforeEach(() => {
    vi.useFakeTimers();
    vi.stubGlobal("window", Object.assign(globalThis, { addEventListener, removeEventListener }));
    vi.stubGlobal("localStorage", {
      getItem: (key: string) => browser.get(key) ?? null,
      setItem: (key: string, text: string) => browser.set(key, text),
      removeItem: (key: string) => browser.delete(key),
    });
    browser.clear();
    pages.clear();
    Object.assign(server, { spec: spec("proposed"), revision: 0, puts: 0, failure: null });
    scope = effectScope();
  });
  afterEach(() => {
    scope.stop();
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });

  it("is kept a moment after the last letter, in one go, and not when nothing was typed", async () => {
    const own = await opened();
    await vi.advanceTimersByTimeAsync(5000);
    expect(server.puts).toBe(0);
    for (const text of ["K", "Ke", "Keeps"]) {
      type(own, text);
      await nextTick();
      await vi.advanceTimersByTimeAsync(300);
    }
    expect(server.puts).toBe(0);
    await vi.advanceTimersByTimeAsync(700);
    expect([server.puts, server.spec?.purpose, own.revision.value]).toEqual([1, "Keeps", 1]);
  });

  it("is kept on leaving", async () => {
    const own = await opened();
    type(own, "typed last");
    hooks.left.at(-1)?.();
    await settled();
    expect(server.spec?.purpose).toBe("typed last");
  });

  it("is sent when the tab is closed, and outlives it where the server does not answer", async () => {
    const own = await opened();
    type(own, "typed last");
    await nextTick();
    pages.forEach((act) => act());
    await settled();
    expect([server.spec?.purpose, server.outlives]).toEqual(["typed last", true]);
    expect(browser.size).toBe(0);

    server.failure = new ApiError("The server does not answer.", 0);
    type(own, "while it was away");
    await nextTick();
    pages.forEach((act) => act());
    await settled();
    expect([server.spec?.purpose, browser.size]).toEqual(["typed last", 1]);
    // Another tab, once the server is there again: it goes on where the first one was closed.
    server.failure = null;
    const next = await opened();
    expect([next.spec.value?.purpose, next.theirs.value]).toEqual(["while it was away", null]);
    await vi.advanceTimersByTimeAsync(1000);
    expect([server.spec?.purpose, browser.size]).toEqual(["while it was away", 0]);
  });

  it("that outlived its tab is held against what another wrote since", async () => {
    const own = await opened();
    server.failure = new ApiError("The server does not answer.", 0);
    type(own, "mine");
    await nextTick();
    scope.stop();
    scope = effectScope();
    Object.assign(server, { failure: null, spec: spec("theirs"), revision: 4 });
    const next = await opened();
    expect([next.spec.value?.purpose, next.theirs.value?.spec?.purpose]).toEqual(["mine", "theirs"]);
    await vi.advanceTimersByTimeAsync(5000);
    expect(server.spec?.purpose).toBe("theirs");
    next.takeTheirs();
    await nextTick();
    expect([next.spec.value?.purpose, browser.size]).toEqual(["theirs", 0]);
  });

  it("takes what another writes as long as nothing is being typed", async () => {
    const own = await opened();
    await changedElsewhere("theirs");
    expect([own.spec.value?.purpose, own.theirs.value]).toEqual(["theirs", null]);
  });

  it("leaves what is being typed, and lets choose between the two", async () => {
    const own = await opened();
    type(own, "mine");
    await changedElsewhere("theirs");
    expect([own.spec.value?.purpose, own.theirs.value?.spec?.purpose]).toEqual(["mine", "theirs"]);
    await vi.advanceTimersByTimeAsync(5000);
    expect(server.spec?.purpose).toBe("theirs");
    await own.keepMine();
    expect([server.spec?.purpose, own.theirs.value]).toEqual(["mine", null]);
    type(own, "mine again");
    await changedElsewhere("theirs again");
    own.takeTheirs();
    expect(own.spec.value?.purpose).toBe("theirs again");
  });

  it("says what is refused, keeps what was typed, and is kept once that is mended", async () => {
    const own = await opened();
    server.failure = new ApiError("too long", 422, "purpose");
    type(own, "x".repeat(20));
    await nextTick();
    await vi.advanceTimersByTimeAsync(1000);
    expect([own.field.value, own.trouble.value]).toEqual(["purpose", "too long"]);
    expect(own.spec.value?.purpose).toHaveLength(20);
    server.failure = null;
    type(own, "short");
    await nextTick();
    await vi.advanceTimersByTimeAsync(1000);
    expect([own.field.value, own.trouble.value, server.spec?.purpose]).toEqual(["", "", "short"]);
  });
});

describe("parts", () => {
  it("move by one place and stay within", () => {
    expect(moved(["summary", "settings", "model"], "model", -1)).toEqual(["summary", "model", "settings"]);
    expect(moved(["summary", "settings"], "summary", -1)).toEqual(["summary", "settings"]);
    expect(moved(["summary", "settings"], "settings", 1)).toEqual(["summary", "settings"]);
    expect(moved(["summary"], "model", 1)).toEqual(["summary"]);
  });
});
