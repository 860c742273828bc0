/** Half and twice of a number: two trials are asked for, and nothing is changed. */
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { effectScope, nextTick, shallowRef, type EffectScope } from "vue";

const posted: unknown[] = [];
vi.mock("../src/api/client", () => ({
  api: {
    POST: (_: string, { body }: { body: { gain: number } }) => {
      posted.push(body);
      return body.gain > 100 ? Promise.reject(new Error("refused")) : Promise.resolve({ trace: body });
    },
  },
  answered: (answer: Promise<unknown>) => answer,
}));
vi.stubGlobal("window", globalThis);
vi.stubGlobal("addEventListener", () => undefined);
const { useHalves } = await import("../src/lib/halves");

interface Simple {
  gain: number;
}

describe("half and twice of a number", () => {
  let scope: EffectScope;
  const draft = shallowRef<Simple | null>({ gain: 4 });
  let own: ReturnType<typeof useHalves>;
  /** As an entry sets it: through an edit that goes up to the page. */
  const edit = (value: number) => {
    const change = (trial: unknown) => ((trial as Simple).gain = value);
    if (!own.catches(change as never)) draft.value = { gain: value };
  };
  const allows = (value: number) => value > 0;

  beforeEach(() => {
    vi.useFakeTimers();
    posted.length = 0;
    draft.value = { gain: 4 };
    scope = effectScope();
    own = scope.run(() => useHalves(draft as never)) as ReturnType<typeof useHalves>;
  });
  afterEach(() => {
    scope.stop();
    vi.useRealTimers();
  });
  const rested = async () => {
    await nextTick();
    await vi.advanceTimersByTimeAsync(2000);
  };

  it("are simulated beside the trial, which stays as it is", async () => {
    own.explore({ value: 4, set: edit, allows });
    await rested();
    expect(posted).toEqual([{ gain: 2 }, { gain: 8 }]);
    expect(own.halves.value.map((half) => half.name)).toEqual(["½ ×", "2 ×"]);
    expect(draft.value).toEqual({ gain: 4 });
  });

  it("go when the entry is left, and an edit is meant again", async () => {
    own.explore({ value: 4, set: edit, allows });
    await rested();
    own.explore(null);
    expect(own.halves.value).toEqual([]);
    edit(5);
    expect(draft.value).toEqual({ gain: 5 });
  });

  it("leave out what is not allowed, and what cannot be run", async () => {
    own.explore({ value: 90, set: edit, allows: (value) => value > 50 });
    await rested();
    // Half is not allowed, twice is refused by the server.
    expect(posted).toEqual([{ gain: 180 }]);
    expect(own.halves.value).toEqual([]);
  });

  it("follow the number while it is nudged", async () => {
    own.explore({ value: 4, set: edit, allows });
    await rested();
    draft.value = { gain: 6 };
    own.explore({ value: 6, set: edit, allows });
    await rested();
    expect(posted.slice(-2)).toEqual([{ gain: 3 }, { gain: 12 }]);
  });
});
