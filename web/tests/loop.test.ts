/** The rows of a loop: the newest of each, older ones on demand, and what is looked at however old it is. */
import { beforeEach, describe, expect, it, vi } from "vitest";
import { createSSRApp, defineComponent, h } from "vue";
import { renderToString } from "vue/server-renderer";
import type { LoopContext } from "../src/lib/loop";

interface Asked {
  path: string;
  query: { newest?: number; also?: string };
}
const { asked, site } = vi.hoisted(() => ({
  asked: [] as { path: string; query: { newest?: number; also?: string } }[],
  site: { rows: {} as Record<string, { id: string; revision: number; pinned: boolean }[]>, isDown: false },
}));

vi.mock("../src/api/client", () => ({
  inAllOf: (answer: { response: Response }, shown: number) =>
    Math.max(Number(answer.response.headers.get("x-total-count")), shown),
  unreadableOf: (answer: { response: Response }) => Number(answer.response.headers.get("x-unreadable-count")),
  api: {
    GET: (path: string, options: { params: { query?: Asked["query"] } }) => {
      const query = options.params.query ?? {};
      asked.push({ path, query });
      if (site.isDown) return Promise.reject(Object.assign(new Error("no answer"), { isUnanswered: true }));
      const kind = path.split("/").at(-1) ?? "";
      const all = site.rows[kind];
      if (!all) return Promise.resolve({ data: { id: "loop", tag: "TIC-1" }, response: new Response() });
      // As the server does it: the newest so many, and the one that is asked for.
      const rows = all
        .filter((row, k) => k < (query.newest ?? 100) || row.id === query.also)
        .map((row) => ({ ...row }));
      const headers = { "x-total-count": String(all.length) };
      return Promise.resolve({ data: rows, response: new Response(null, { headers }) });
    },
  },
  answered: async (request: Promise<{ data: unknown }>) => (await request).data,
  isUnanswered: (error: { isUnanswered?: boolean }) => error.isUnanswered ?? false,
  messageOf: (error: Error) => error.message,
}));
vi.mock("../src/lib/live", () => ({ gathered: (act: () => unknown) => act, useChanges: () => undefined }));
const location = { search: "" };
vi.stubGlobal("window", { location });
const { provideLoop } = await import("../src/lib/loop");

const id = (k: number) => `00000000-0000-7000-8000-${String(k).padStart(12, "0")}`;
const many = (count: number) =>
  Array.from({ length: count }, (_, k) => ({ id: id(count - k), revision: 1, pinned: false }));

async function opened(): Promise<LoopContext> {
  let context: LoopContext | null = null;
  const page = defineComponent({
    setup() {
      context = provideLoop("TIC-1", { renamed: () => undefined, gone: () => undefined });
      return () => h("p");
    },
  });
  await renderToString(createSSRApp(page));
  const loop = context as LoopContext | null;
  if (!loop) throw new Error("no loop");
  await loop.load();
  return loop;
}

beforeEach(() => {
  asked.length = 0;
  location.search = "";
  site.isDown = false;
  site.rows = { records: many(3), models: many(250), trials: many(1234), proofs: many(25) };
});

describe("a loop", () => {
  it("has the newest rows of each, and knows how many there are in all", async () => {
    const { state } = await opened();
    expect(state.status).toBe("ready");
    expect([state.records.length, state.models.length, state.trials.length]).toEqual([3, 100, 100]);
    // Proofs come with their tables: fewer at a time.
    expect([state.proofs.length, state.inAll.proofs]).toEqual([20, 25]);
    expect(state.inAll).toEqual({ records: 3, models: 250, trials: 1234, proofs: 25 });
    expect(state.trials[0]?.id).toBe(id(1234));
  });

  it("fetches older ones a hundred at a time, each kind for itself", async () => {
    const loop = await opened();
    await loop.showOlder("trials");
    expect([loop.state.trials.length, loop.state.models.length]).toEqual([200, 100]);
    await loop.showOlder("models");
    await loop.showOlder("models");
    expect([loop.state.trials.length, loop.state.models.length]).toEqual([200, 250]);
    await loop.showOlder("records");
    expect(loop.state.records.length).toBe(3);
  });

  it("never asks for more than the server gives at once", async () => {
    const loop = await opened();
    for (let k = 0; k < 15; k += 1) await loop.showOlder("trials");
    expect(Math.max(...asked.map((one) => one.query.newest ?? 0))).toBe(1000);
    expect(loop.state.trials.length).toBe(1000);
  });

  it("keeps what is looked at, however old it is, and asks for nothing that is no identifier", async () => {
    location.search = `?trial=${id(5)}&model=${id(7)}&record=nonsense`;
    const { state } = await opened();
    expect(state.trials.at(-1)?.id).toBe(id(5));
    expect(state.models.at(-1)?.id).toBe(id(7));
    const records = asked.find((one) => one.path.endsWith("/records"));
    expect(records?.query.also).toBeUndefined();
  });

  it("leaves rows that did not change as they are, so that they are not drawn anew", async () => {
    const loop = await opened();
    const before = [...loop.state.trials];
    const rows = site.rows["trials"] ?? [];
    rows[3] = { id: rows[3]?.id ?? "", revision: 2, pinned: false };
    rows[4] = { id: rows[4]?.id ?? "", revision: 1, pinned: true };
    await loop.refreshTrials();
    const same = loop.state.trials.map((row, k) => row === before[k]);
    expect(same.flatMap((is, k) => (is ? [] : [k]))).toEqual([3, 4]);
  });

  it("shows what it has while the server does not answer, and fails only where it has nothing", async () => {
    const loop = await opened();
    site.isDown = true;
    await loop.load();
    expect([loop.state.status, loop.state.trials.length]).toEqual(["ready", 100]);
    const fresh = await opened();
    expect([fresh.state.status, fresh.state.failure]).toEqual(["failed", "no answer"]);
  });
});
