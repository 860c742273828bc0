/** The trial being edited, with a server that answers as slowly as is wanted. */
import { beforeEach, describe, expect, it, vi } from "vitest";
import { nextTick, ref } from "vue";
import type { Trial, TrialResult, TrialRow } from "../src/api/client";
import type { LoopContext } from "../src/lib/loop";

interface Asked {
  path: string;
  body: { gain?: number; trial?: { gain: number }; replaces?: string | null; label?: string | null };
  signal?: AbortSignal;
  answer: (value: unknown) => void;
  fail: (error: unknown) => void;
}
const asked: Asked[] = [];

vi.mock("../src/api/client", () => ({
  api: {
    POST: (path: string, { body, signal }: Pick<Asked, "body" | "signal">) =>
      new Promise((answer, fail) => {
        asked.push({ path, body: JSON.parse(JSON.stringify(body)) as Asked["body"], signal, answer, fail });
        signal?.addEventListener("abort", () => fail(Object.assign(new Error(), { name: "AbortError" })));
      }),
  },
  answered: (promise: Promise<unknown>) => promise,
  fieldOf: (error: { field?: string }) => error.field ?? "",
  isAbort: (error: Error) => error.name === "AbortError",
  isUnanswered: (error: { isUnanswered?: boolean }) => error.isUnanswered ?? false,
  messageOf: (error: { message?: string }) => error.message ?? "",
}));

const store = new Map<string, string>();
vi.stubGlobal("sessionStorage", {
  getItem: (key: string) => store.get(key) ?? null,
  setItem: (key: string, value: string) => store.set(key, value),
  removeItem: (key: string) => store.delete(key),
});
vi.stubGlobal("window", globalThis);
vi.stubGlobal("requestAnimationFrame", (act: () => void) => setTimeout(act, 16));

/** The modules of a page that was just loaded. */
async function load() {
  vi.resetModules();
  ({ useDraft } = await import("../src/lib/draft"));
  ({ online } = await import("../src/lib/live"));
}
let useDraft: typeof import("../src/lib/draft").useDraft;
let online: typeof import("../src/lib/live").online;

const row = (id: string, gain: number) => ({ id, trial: { gain } as unknown as Trial }) as TrialRow;

/** A trail; with `later`, the row that is chosen is shown only when that is called, as an address changes. */
function site(later?: { show: () => void }) {
  const trials = [row("a", 1)];
  const base = ref<TrialRow | null>(trials[0]!);
  const loop = {
    state: { tag: "TIC-1", trials },
    refreshTrials: () => Promise.resolve(),
  } as unknown as LoopContext;
  const show = (id: string) => (base.value = trials.find((known) => known.id === id) ?? null);
  const select = (id: string) => (later ? (later.show = () => show(id)) : show(id));
  const draft = useDraft(loop, base as never, select);
  /** Answers what is asked, and lets everything that follows happen. */
  const answer = async (value: unknown) => {
    await begun();
    asked.at(-1)!.answer(value);
    await vi.advanceTimersByTimeAsync(20);
  };
  const set = (gain: number) => draft.change((trial) => ((trial as unknown as { gain: number }).gain = gain));
  const kept = () => asked.filter((one) => one.path.endsWith("/trials"));
  return { draft, base, trials, answer, set, kept };
}
const result = (name: string) => ({ name }) as unknown as TrialResult;
/** What was changed has its frame first; then it is asked for. */
const begun = () => vi.advanceTimersByTimeAsync(1);
const drawn = (draft: ReturnType<typeof useDraft>) =>
  (draft.result.value as unknown as { name: string } | null)?.name;

beforeEach(async () => {
  vi.useFakeTimers();
  asked.length = 0;
  store.clear();
  await load();
});

describe("a trial being edited", () => {
  it("asks for one simulation at a time and draws the last", async () => {
    const { draft, answer, set } = site();
    await answer(result("first"));
    expect(drawn(draft)).toBe("first");
    set(2);
    await begun();
    for (const gain of [3, 4, 5, 6]) set(gain);
    expect(asked.map((one) => one.body.gain)).toEqual([1, 2]);
    await answer(result("second"));
    // What lay between is never asked for.
    expect(asked.map((one) => one.body.gain)).toEqual([1, 2, 6]);
    await answer(result("last"));
    expect(drawn(draft)).toBe("last");
    expect(draft.simulating.value).toBe(false);
    // Several changes before the first is asked for are one.
    for (const gain of [7, 8, 9]) set(gain);
    await begun();
    expect(asked.map((one) => one.body.gain)).toEqual([1, 2, 6, 9]);
    await answer(result("at once"));
    expect([drawn(draft), asked.length]).toEqual(["at once", 4]);
  });

  it("does not wait for a slow answer when something newer is wanted", async () => {
    const { draft, answer, set } = site();
    await answer(result("first"));
    set(2);
    await vi.advanceTimersByTimeAsync(600);
    set(3);
    await vi.advanceTimersByTimeAsync(20);
    expect(asked[1]!.signal?.aborted).toBe(true);
    expect(asked.at(-1)!.body.gain).toBe(3);
    await answer(result("newest"));
    expect([drawn(draft), draft.refusal.value]).toEqual(["newest", ""]);
  });

  it("goes to the trail when it stays, and what was passed through makes room", async () => {
    const { answer, set, kept, trials, base } = site();
    await answer(result("first"));
    set(2);
    await answer(result("second"));
    await vi.advanceTimersByTimeAsync(1000);
    expect(kept().map((one) => [one.body.trial?.gain, one.body.replaces])).toEqual([[2, null]]);
    trials.push(row("b", 2));
    await answer(row("b", 2));
    await nextTick();
    expect(base.value?.id).toBe("b");
    // On to 3 soon after: the same number, so that the row of 2 was only on the way.
    set(3);
    await answer(result("third"));
    await vi.advanceTimersByTimeAsync(1000);
    expect(kept().at(-1)!.body).toMatchObject({ trial: { gain: 3 }, changed_from: "a", replaces: "b" });
  });

  it("stays as it is typed when the row that it began from makes room meanwhile", async () => {
    const { draft, answer, set, kept, trials, base } = site();
    const gain = () => (draft.draft.value as unknown as { gain: number }).gain;
    await answer(result("first"));
    set(2);
    await answer(result("second"));
    await vi.advanceTimersByTimeAsync(1000);
    trials.push(row("b", 2));
    await answer(row("b", 2));
    set(3);
    await answer(result("third"));
    await vi.advanceTimersByTimeAsync(1000);
    // While the trail takes 3 in place of 2, 4 is typed; the page hears of the new row before the answer is there.
    const keeping = kept().at(-1)!;
    set(4);
    trials.splice(1, 1, row("c", 3));
    base.value = trials[1]!;
    await nextTick();
    expect(gain()).toBe(4);
    keeping.answer(row("c", 3));
    await vi.advanceTimersByTimeAsync(20);
    await answer(result("fourth"));
    await vi.advanceTimersByTimeAsync(1000);
    expect(kept().at(-1)!.body).toMatchObject({ trial: { gain: 4 } });
    // Who chooses another row gets that row.
    base.value = trials[0]!;
    await nextTick();
    expect(gain()).toBe(1);
  });

  it("stays as it is typed when the row that was kept is shown only afterwards", async () => {
    const later = { show: () => undefined as unknown };
    const { draft, answer, set, kept, trials, base } = site(later as { show: () => void });
    const gain = () => (draft.draft.value as unknown as { gain: number }).gain;
    await answer(result("first"));
    set(2);
    await answer(result("second"));
    await vi.advanceTimersByTimeAsync(1000);
    trials.push(row("b", 2));
    await answer(row("b", 2));
    set(3);
    later.show();
    await nextTick();
    expect([gain(), base.value?.id]).toEqual([3, "b"]);
    await answer(result("third"));
    await vi.advanceTimersByTimeAsync(1000);
    expect(kept().at(-1)!.body).toMatchObject({ trial: { gain: 3 } });
  });

  it("keeps a row that was meant", async () => {
    const { draft, answer, set, kept, trials } = site();
    await answer(result("first"));
    set(2);
    draft.mean();
    await answer(result("second"));
    await vi.advanceTimersByTimeAsync(1000);
    trials.push(row("b", 2));
    await answer(row("b", 2));
    set(3);
    await answer(result("third"));
    await vi.advanceTimersByTimeAsync(1000);
    expect(kept().at(-1)!.body).toMatchObject({ changed_from: "b", replaces: null });
  });

  it("is not lost when a refused edit is followed by a slow simulation", async () => {
    const { draft, answer, set, kept } = site();
    await answer(result("first"));
    set(-1);
    await begun();
    asked.at(-1)!.fail({ message: "The gain is −1: it must be above 0.", field: "controller.gain" });
    await vi.advanceTimersByTimeAsync(20);
    expect([draft.refusal.value, draft.refusedField.value]).toEqual([
      "The gain is −1: it must be above 0.",
      "controller.gain",
    ]);
    await vi.advanceTimersByTimeAsync(1000);
    expect(kept()).toEqual([]);
    // Put right; the answer takes longer than the pause after which a trial is kept.
    set(7);
    await vi.advanceTimersByTimeAsync(3000);
    expect(kept()).toEqual([]);
    await answer(result("slow"));
    expect(kept().map((one) => one.body.trial?.gain)).toEqual([7]);
    expect(draft.refusal.value).toBe("");
  });

  it("is tried again by itself when the server answers again", async () => {
    const { draft, answer, set, kept } = site();
    await answer(result("first"));
    set(4);
    online.value = false;
    await begun();
    asked.at(-1)!.fail({ message: "The server does not answer.", isUnanswered: true });
    await vi.advanceTimersByTimeAsync(1500);
    expect(draft.isWaiting.value).toBe(true);
    online.value = true;
    await vi.advanceTimersByTimeAsync(20);
    await answer(result("again"));
    expect([drawn(draft), draft.refusal.value, draft.isWaiting.value]).toEqual(["again", "", false]);
    expect(kept().map((one) => one.body.trial?.gain)).toEqual([4]);
  });

  it("is there again after a reload", async () => {
    const first = site();
    await first.answer(result("first"));
    first.set(9);
    await nextTick();
    await vi.advanceTimersByTimeAsync(0);
    expect([...store.keys()]).toEqual(["antistasis draft of TIC-1"]);
    await load();
    const second = site();
    expect((second.draft.draft.value as unknown as { gain: number }).gain).toBe(9);
  });
});
