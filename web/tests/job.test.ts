/** A job that is followed while the server answers, stays away, and comes back without knowing of it. */
import { beforeEach, describe, expect, it, vi } from "vitest";

vi.stubGlobal("window", globalThis);
vi.mock("../src/api/client", () => ({
  isMissing: (error: { status?: number }) => error.status === 404,
  isUnanswered: (error: { status?: number }) => error.status === 0 || error.status === 503,
}));
const { followed } = await import("../src/lib/job");

interface State {
  id: string;
  stage: string;
  share: number;
}
const running = (id: string, share: number): State => ({ id, stage: "running", share });
const done = (id: string): State => ({ id, stage: "done", share: 1 });
const failing = (status: number) => Object.assign(new Error(`status ${status}`), { status });

/** A server whose answers to looks come in this order; then it is done. */
function server(answers: (State | Error)[], beginnings: (State | Error)[] = []) {
  const asked: string[] = [];
  const seen: string[] = [];
  let begun = 0;
  const next = (answer: State | Error) =>
    answer instanceof Error ? Promise.reject(answer) : Promise.resolve(answer);
  return {
    asked,
    seen,
    begin: () => {
      begun += 1;
      asked.push("begin");
      return next(beginnings.shift() ?? running(`job ${begun}`, 0));
    },
    look: (id: string) => {
      asked.push(`look ${id}`);
      return next(answers.shift() ?? done(id));
    },
    see: (state: State) => void seen.push(`${state.id} ${state.stage} ${state.share}`),
  };
}

beforeEach(() => void vi.useFakeTimers());

async function outcome(of: ReturnType<typeof server>, isGivenUp = () => false): Promise<string> {
  const ending = followed(of.begin, of.look, of.see, isGivenUp).then(
    (state) => `${state.id} ${state.stage}`,
    (error: Error) => error.message,
  );
  await vi.advanceTimersByTimeAsync(60_000);
  return Promise.race([ending, Promise.resolve("still running")]);
}

describe("a job", () => {
  it("is looked at until it ends", async () => {
    const site = server([running("job 1", 0.3), running("job 1", 0.8)]);
    expect(await outcome(site)).toBe("job 1 done");
    expect(site.seen).toEqual(["job 1 running 0", "job 1 running 0.3", "job 1 running 0.8", "job 1 done 1"]);
  });

  it("that ends at once is not looked at", async () => {
    const site = server([], [done("job 1")]);
    expect(await outcome(site)).toBe("job 1 done");
    expect(site.asked).toEqual(["begin"]);
  });

  it("waits for a server that does not answer", async () => {
    const site = server([running("job 1", 0.3), failing(0), failing(503), failing(0), running("job 1", 0.4)]);
    expect(await outcome(site)).toBe("job 1 done");
    expect(site.asked.filter((one) => one === "begin")).toEqual(["begin"]);
  });

  it("begins anew at a server that was started again, even where that takes a while", async () => {
    const site = server(
      [running("job 1", 0.6), failing(0), failing(404)],
      [running("job 1", 0), failing(503), failing(0), running("job 2", 0)],
    );
    expect(await outcome(site)).toBe("job 2 done");
    expect(site.asked.filter((one) => one === "begin").length).toBe(4);
    expect(site.seen.at(-2)).toBe("job 2 running 0");
  });

  it("does not begin anew for ever", async () => {
    const site = server(Array.from({ length: 50 }, () => failing(404)));
    expect(await outcome(site)).toBe("status 404");
    expect(site.asked.filter((one) => one === "begin").length).toBe(5);
  });

  it("is not waited for when it was given up", async () => {
    for (const status of [0, 503, 404]) {
      expect(await outcome(server([failing(status)]), () => true)).toBe(`status ${status}`);
    }
  });

  it("ends with what the server refuses", async () => {
    expect(await outcome(server([], [failing(422)]))).toBe("status 422");
    expect(await outcome(server([failing(404)], [running("job 1", 0), failing(422)]))).toBe("status 422");
    expect(await outcome(server([failing(500)]))).toBe("status 500");
  });
});
