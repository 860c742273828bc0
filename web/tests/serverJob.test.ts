import { describe, expect, it, vi } from "vitest";

vi.mock("../src/api/client", () => ({
  ApiError: class extends Error {
    constructor(
      message: string,
      readonly status: number,
      readonly field?: string,
    ) {
      super(message);
    }
  },
  isMissing: () => false,
  isUnanswered: () => false,
}));
const { jobsByLoop } = await import("../src/lib/serverJob");

interface State {
  id: string;
  stage: string;
  outcome: string | null;
  problem?: { detail?: string | null; status: number; field?: string } | null;
}

/** A server that tells these one after the other. */
function jobs(told: Omit<State, "id">[], begun: { ended: string[] } = { ended: [] }) {
  const left = [...told];
  const next = () => Promise.resolve({ id: "job", ...(left.shift() ?? { stage: "running", outcome: null }) });
  return jobsByLoop<string, State, string>({
    begin: next,
    look: next,
    underWay: () => Promise.resolve([]),
    end: (id) => begun.ended.push(id),
    made: (state) => state.outcome,
    failed: "It failed.",
    shown: (seen, before) => ({ ...seen, outcome: seen.outcome ?? before?.outcome ?? null }),
  });
}

describe("a job of a loop", () => {
  it("is followed to its end, found again under its loop, and gone afterwards", async () => {
    const job = jobs([
      { stage: "running", outcome: "half" },
      { stage: "running", outcome: null },
      { stage: "done", outcome: "whole" },
    ]);
    const own = job("TIC-1");
    expect(job("TIC-1")).toBe(own);
    expect(job("TIC-2")).not.toBe(own);
    const end = own.follow("body");
    await vi.waitFor(() => expect(own.state.value?.outcome).toBe("half"));
    expect(await end).toBe("whole");
    expect(own.state.value).toBeNull();
  });

  /** A server at which this is under way at the loop A. */
  function begunBefore(underWay: () => Promise<State[]>) {
    const begin = vi.fn(() => Promise.resolve({ id: "new", stage: "done", outcome: "new" }));
    const look = vi.fn(() => Promise.resolve({ id: "known", stage: "done", outcome: "whole" }));
    const asked = vi.fn(underWay);
    const ways = { begin, look, end: () => undefined, made: (state: State) => state.outcome, failed: "" };
    return { begin, look, asked, job: jobsByLoop<string, State, string>({ ...ways, underWay: asked })("A") };
  }
  const running = (id: string): State => ({ id, stage: "running", outcome: null });

  it("is taken up again where it was begun before, and not begun once more", async () => {
    const { begin, look, asked, job } = begunBefore(() =>
      Promise.resolve([running("known"), running("older")]),
    );
    const end = job.takeUp();
    await vi.waitFor(() => expect(job.state.value?.id).toBe("known"));
    // Another look at the page meanwhile follows nothing twice.
    expect(await job.takeUp()).toBeNull();
    expect(await end).toBe("whole");
    expect(job.state.value).toBeNull();
    expect([begin.mock.calls.length, asked.mock.calls, look.mock.calls]).toEqual([0, [["A"]], [["known"]]]);
  });

  it("is not taken up where there is none, where the server does not answer, or where another was begun meanwhile", async () => {
    expect(await begunBefore(() => Promise.resolve([])).job.takeUp()).toBeNull();
    expect(await begunBefore(() => Promise.reject(new Error("no answer"))).job.takeUp()).toBeNull();
    let answer: (all: State[]) => void = () => undefined;
    const { begin, look, job } = begunBefore(() => new Promise((resolve) => (answer = resolve)));
    let begun: (state: State & { outcome: string }) => void = () => undefined;
    begin.mockReturnValue(new Promise((resolve) => (begun = resolve)));
    const late = job.takeUp();
    const own = job.follow("body");
    answer([running("known")]);
    expect(await late).toBeNull();
    begun({ id: "new", stage: "done", outcome: "new" });
    expect(await own).toBe("new");
    expect(look).not.toHaveBeenCalled();
  });

  it("fails with the words and the field of the server, or with its own", async () => {
    const problem = { detail: "The gain is −1.", status: 422, field: "gain" };
    await expect(jobs([{ stage: "failed", outcome: null, problem }])("A").follow("")).rejects.toMatchObject({
      message: "The gain is −1.",
      field: "gain",
    });
    const silent = jobs([{ stage: "failed", outcome: null, problem: { status: 500 } }]);
    await expect(silent("A").follow("")).rejects.toThrow("It failed.");
  });

  it("makes nothing where it is cancelled, and the server hears of it", async () => {
    const heard = { ended: [] as string[] };
    const job = jobs(
      [
        { stage: "running", outcome: null },
        { stage: "done", outcome: "late" },
      ],
      heard,
    )("A");
    const end = job.follow("");
    await vi.waitFor(() => expect(job.state.value).not.toBeNull());
    job.cancel();
    expect(await end).toBeNull();
    expect(heard.ended).toEqual(["job"]);
  });
});
