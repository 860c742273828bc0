import { inject, provide, reactive, type InjectionKey } from "vue";
import {
  answered,
  api,
  inAllOf,
  isUnanswered,
  messageOf,
  unreadableOf,
  type Answer,
  type LoopDetail,
  type ModelRow,
  type ProofRow,
  type RecordInfo,
  type Schemas,
  type TrialRow,
} from "../api/client";
import { gathered, useChanges } from "./live";

/** All that is known of the loop on the screen. */
export interface LoopState {
  tag: string;
  status: "loading" | "ready" | "failed";
  failure: string;
  detail: LoopDetail | null;
  records: RecordInfo[];
  models: ModelRow[];
  /** The newest of the trail, and besides what is pinned, starred or selected. */
  trials: TrialRow[];
  /** The newest proofs. */
  proofs: ProofRow[];
  /** What could be handed over, and which proofs stand behind it. */
  handOver: Schemas["HandOver"];
  /** How many there are of each in all. */
  inAll: Record<Rows, number>;
  /** How many of those that were asked for this version cannot read. */
  unreadable: Record<Rows, number>;
}

/** What a loop has rows of: of each the newest are there, and older ones on demand. */
export type Rows = "records" | "models" | "trials" | "proofs";

export interface LoopContext {
  state: LoopState;
  load: () => Promise<void>;
  refreshDetail: () => Promise<void>;
  refreshRecords: () => Promise<void>;
  refreshModels: () => Promise<void>;
  refreshTrials: () => Promise<void>;
  refreshProofs: () => Promise<void>;
  refreshHandOver: () => Promise<void>;
  /** Fetches more of these rows. */
  showOlder: (rows: Rows) => Promise<void>;
}

/** Rows that are fetched at first, and each time that older ones are asked for; and at most. */
const PAGE = 100;
const MOST = 1000;
/** Proofs come with their tables. */
const PROOFS = 20;

const isId = (text: string | undefined) => text !== undefined && /^[0-9a-f-]{36}$/.test(text);

const KEY: InjectionKey<LoopContext> = Symbol("loop");

/** `renamed` is told when the loop gets another tag, `gone` when it is deleted. */
export function provideLoop(
  tag: string,
  { renamed, gone }: { renamed: (tag: string) => void; gone: () => void },
): LoopContext {
  const state = reactive<LoopState>({
    tag,
    status: "loading",
    failure: "",
    detail: null,
    records: [],
    models: [],
    trials: [],
    proofs: [],
    handOver: { proven: [] },
    inAll: { records: 0, models: 0, trials: 0, proofs: 0 },
    unreadable: { records: 0, models: 0, trials: 0, proofs: 0 },
  });
  const params = { params: { path: { tag } } };
  const newest: Record<Rows, number> = { records: PAGE, models: PAGE, trials: PAGE, proofs: PROOFS };

  /** The rows that are shown. What is looked at stands in the address: it stays, however old it is. */
  function wanted(rows: Rows) {
    const also = new URLSearchParams(window.location.search).get(rows.slice(0, -1)) ?? undefined;
    const query = isId(also) ? { newest: newest[rows], also } : { newest: newest[rows] };
    return { params: { path: { tag }, query } };
  }

  /** The rows of an answer; how many there are in all is noted. */
  async function counted<T>(rows: Rows, request: Promise<Answer<T[]>>): Promise<T[]> {
    const found = await answered(request);
    const answer = await request;
    state.inAll[rows] = inAllOf(answer, found.length);
    state.unreadable[rows] = unreadableOf(answer);
    return found;
  }

  const context: LoopContext = {
    state,
    async load() {
      if (state.status !== "ready") state.status = "loading";
      try {
        await context.refreshDetail();
        await Promise.all([
          context.refreshRecords(),
          context.refreshModels(),
          context.refreshTrials(),
          context.refreshProofs(),
          context.refreshHandOver(),
        ]);
        state.status = "ready";
      } catch (error) {
        // What is shown already stays where the server only does not answer for the moment.
        if (state.status === "ready" && isUnanswered(error)) return;
        state.failure = messageOf(error);
        state.status = "failed";
      }
    },
    async refreshDetail() {
      state.detail = await answered(api.GET("/api/v1/loops/{tag}", params));
    },
    async refreshRecords() {
      state.records = await counted("records", api.GET("/api/v1/loops/{tag}/records", wanted("records")));
    },
    async refreshModels() {
      state.models = await counted("models", api.GET("/api/v1/loops/{tag}/models", wanted("models")));
    },
    async showOlder(rows) {
      newest[rows] = Math.min(newest[rows] + PAGE, MOST);
      if (rows === "records") await context.refreshRecords();
      else if (rows === "models") await context.refreshModels();
      else if (rows === "trials") await context.refreshTrials();
      else await context.refreshProofs();
    },
    async refreshProofs() {
      const proofs = await counted("proofs", api.GET("/api/v1/loops/{tag}/proofs", wanted("proofs")));
      const known = new Map(state.proofs.map((row) => [row.id, row]));
      state.proofs = proofs.map((row) => {
        const before = known.get(row.id);
        return before && before.revision === row.revision ? before : row;
      });
    },
    async refreshHandOver() {
      state.handOver = await answered(api.GET("/api/v1/loops/{tag}/hand-over", params));
    },
    async refreshTrials() {
      const trials = await counted("trials", api.GET("/api/v1/loops/{tag}/trials", wanted("trials")));
      // Rows that are the same stay the same objects, so that only what changed is drawn anew.
      const known = new Map(state.trials.map((row) => [row.id, row]));
      state.trials = trials.map((row) => {
        const before = known.get(row.id);
        return before && before.revision === row.revision && before.pinned === row.pinned ? before : row;
      });
    },
  };

  /** The loop itself changed: its tag may be another one now. */
  async function loopChanged() {
    const id = state.detail?.id;
    try {
      await context.refreshDetail();
    } catch (error) {
      if (isUnanswered(error)) return;
      const params = { query: { first: 1, also: id } };
      const loops = await answered(api.GET("/api/v1/loops", { params })).catch(() => null);
      const now = loops?.find((loop) => loop.id === id);
      if (now) renamed(now.tag);
      else if (loops && state.status === "ready") gone();
    }
  }

  /** What could be handed over changes with the trials and the proofs. */
  const both = async (refresh: () => Promise<void>) => {
    await Promise.all([refresh(), context.refreshHandOver()]);
  };
  const quietly = (act: () => Promise<void>) => gathered(() => void act().catch(() => undefined));
  const refresh: Record<string, () => void> = {
    record: quietly(async () => {
      await context.refreshRecords();
      await context.refreshModels();
    }),
    model: quietly(context.refreshModels),
    trial: quietly(() => both(context.refreshTrials)),
    proof: quietly(() => both(context.refreshProofs)),
    control_loop: quietly(loopChanged),
    area: quietly(loopChanged),
  };
  const all = gathered(() => void context.load());
  useChanges((change) => {
    if (!change) all();
    else if (change.kind === "area" || change.loop_id === state.detail?.id) refresh[change.kind]?.();
  });
  provide(KEY, context);
  return context;
}

export function useLoop(): LoopContext {
  const context = inject(KEY);
  if (!context) throw new Error("a step stands inside a loop");
  return context;
}
