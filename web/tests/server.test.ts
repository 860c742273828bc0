/** What the server answers, and what a page makes of it: refusals, silence, lists that are fetched once, notes. */
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { effectScope, nextTick } from "vue";

vi.stubGlobal("window", Object.assign(globalThis, { addEventListener: () => undefined }));

const { answered, ApiError, fieldOf, ifMatch, isAbort, isUnanswered, messageOf } =
  await import("../src/api/client");
const { fetchedOnce } = await import("../src/lib/once");
const { dismiss, notes, tell } = await import("../src/lib/notes");
const { inWords, isProcess, setStructures, shortName } = await import("../src/lib/structures");

const response = (status: number) => new Response(null, { status });
const answer = (status: number, rest: object) =>
  answered(Promise.resolve({ response: response(status), ...rest }) as never);

describe("an answer", () => {
  it("is its data, and nothing where there is none", async () => {
    expect(await answer(200, { data: { id: 1 } })).toEqual({ id: 1 });
    expect(await answer(204, {})).toBeUndefined();
  });

  it("that refuses is told in the server's words, with the field that it is about", async () => {
    const problem = { detail: "gain: 0 is not allowed", field: "candidate.gain", current: { revision: 4 } };
    const error = await answer(422, { error: problem }).catch((known: unknown) => known);
    expect(error).toBeInstanceOf(ApiError);
    expect([messageOf(error), fieldOf(error)]).toEqual([problem.detail, problem.field]);
    expect((error as InstanceType<typeof ApiError>).current).toEqual({ revision: 4 });
    expect(isUnanswered(error)).toBe(false);
  });

  it("without words says its number", async () => {
    await expect(answer(502, { error: "<html>" })).rejects.toThrow("The server answered 502.");
  });

  it("that never comes is told from one that nobody waits for any more", async () => {
    const silent = await answered(Promise.reject(new TypeError("fetch failed"))).catch(
      (known: unknown) => known,
    );
    expect([isUnanswered(silent), isAbort(silent), fieldOf(silent)]).toEqual([true, false, ""]);
    const aborted = new DOMException("gone", "AbortError");
    const left = await answered(Promise.reject(aborted)).catch((known: unknown) => known);
    expect([isUnanswered(left), isAbort(left)]).toEqual([false, true]);
  });

  it("from a server whose database is away is asked for again by itself, like one that never came", async () => {
    const { online } = await import("../src/lib/live");
    vi.useFakeTimers();
    const health = vi.fn(() => Promise.resolve(new Response(null, { status: 503 })));
    vi.stubGlobal("fetch", health);
    online.value = true;
    const detail = "The database does not answer; it is being started again.";
    const away = await answer(503, { error: { detail } }).catch((known: unknown) => known);
    expect([isUnanswered(away), messageOf(away), online.value]).toEqual([true, detail, false]);
    await vi.advanceTimersByTimeAsync(1500);
    expect(health).toHaveBeenCalledTimes(2);
    expect(online.value).toBe(false);
    // It is back: the page looks at everything again.
    vi.stubGlobal("fetch", () => Promise.resolve(new Response(null, { status: 200 })));
    await vi.advanceTimersByTimeAsync(800);
    expect(online.value).toBe(true);
    vi.useRealTimers();
  });

  it("is written to from the revision that was seen, or over whatever stands there", () => {
    expect(ifMatch(3)).toEqual({ "If-Match": '"3"' });
    expect(ifMatch(3, true)).toEqual({ "If-Match": "*" });
  });
});

describe("a list that never changes", () => {
  it("is fetched by the first who needs it, and shared", async () => {
    const fetch = vi.fn(() => Promise.resolve(["a", "b"]));
    const { use, list } = fetchedOnce(fetch);
    const scope = effectScope();
    scope.run(() => use());
    await nextTick();
    scope.run(() => use());
    expect(list.value).toEqual(["a", "b"]);
    expect(fetch).toHaveBeenCalledTimes(1);
    scope.stop();
  });

  it("stays empty where the server does not answer", async () => {
    const { use, list } = fetchedOnce(() => Promise.reject(new Error("silent")));
    const scope = effectScope();
    scope.run(() => use());
    await nextTick();
    expect(list.value).toEqual([]);
    scope.stop();
  });
});

describe("notes at the foot", () => {
  beforeEach(() => {
    vi.useFakeTimers();
    notes.value = [];
  });
  afterEach(() => void vi.useRealTimers());

  it("are three at most, and go by themselves; those with a way back stay longer", () => {
    ["a", "b", "c", "d"].forEach((text) => tell(text));
    expect(notes.value.map((note) => note.text)).toEqual(["b", "c", "d"]);
    tell("deleted", { title: "Bring back", act: () => undefined });
    vi.advanceTimersByTime(6_001);
    expect(notes.value.map((note) => note.text)).toEqual(["deleted"]);
    vi.advanceTimersByTime(6_001);
    expect(notes.value).toEqual([]);
  });

  it("can be put away one by one", () => {
    ["a", "b"].forEach((text) => tell(text));
    dismiss(notes.value[0]!.id);
    expect(notes.value.map((note) => note.text)).toEqual(["b"]);
  });
});

it("structures are named shortly, with their orders, also before the server has told of them", () => {
  const arx = { kind: "arx", na: 2, nb: 2, nk: 18 } as never;
  expect(shortName(arx)).toBe("arx");
  expect(isProcess("fopdt")).toBe(false);
  setStructures([
    {
      structure: arx,
      short: "ARX",
      is_process: false,
      orders: [{ name: "na" }, { name: "nb" }, { name: "nk" }],
    },
    { structure: { kind: "fopdt" }, short: "FOPDT", is_process: true, orders: [] },
  ] as never);
  expect(shortName(arx)).toBe("ARX 2,2,18");
  expect(shortName({ kind: "fopdt" } as never)).toBe("FOPDT");
  expect([isProcess("fopdt"), isProcess("arx")]).toEqual([true, false]);
  expect(inWords("second_order_lead")).toBe("second order lead");
});
