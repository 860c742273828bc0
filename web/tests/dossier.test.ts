import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { effectScope, nextTick, type EffectScope } from "vue";
import type { Schemas } from "../src/api/client";

type State = Schemas["DossierState"];
/** The server, as it would be: one document with a revision. */
const server = { spec: null as State["spec"], revision: 0, puts: 0, failure: null as Error | null };
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
    PUT: (_: string, sent: { params: { header: { "If-Match": string } }; body: State["spec"] }) => {
      server.puts += 1;
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

async function opened() {
  const own = scope.run(() => useDossier("TIC-1", () => "loop"));
  if (!own) throw new Error("no scope");
  hooks.mounted.at(-1)?.();
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
    vi.stubGlobal("window", globalThis);
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
