import { inject, provide, reactive, type InjectionKey } from "vue";
import {
  answered,
  api,
  messageOf,
  type LoopDetail,
  type ModelRow,
  type RecordInfo,
  type TrialRow,
} from "../api/client";

/** All that is known of the loop on the screen. */
export interface LoopState {
  tag: string;
  status: "loading" | "ready" | "failed";
  failure: string;
  detail: LoopDetail | null;
  records: RecordInfo[];
  models: ModelRow[];
  trials: TrialRow[];
}

export interface LoopContext {
  state: LoopState;
  load: () => Promise<void>;
  refreshRecords: () => Promise<void>;
  refreshModels: () => Promise<void>;
  refreshTrials: () => Promise<void>;
}

const KEY: InjectionKey<LoopContext> = Symbol("loop");

export function provideLoop(tag: string): LoopContext {
  const state = reactive<LoopState>({
    tag,
    status: "loading",
    failure: "",
    detail: null,
    records: [],
    models: [],
    trials: [],
  });
  const params = { params: { path: { tag } } };
  const context: LoopContext = {
    state,
    async load() {
      state.status = "loading";
      try {
        state.detail = await answered(api.GET("/api/v1/loops/{tag}", params));
        await Promise.all([context.refreshRecords(), context.refreshModels(), context.refreshTrials()]);
        state.status = "ready";
      } catch (error) {
        state.failure = messageOf(error);
        state.status = "failed";
      }
    },
    async refreshRecords() {
      state.records = await answered(api.GET("/api/v1/loops/{tag}/records", params));
    },
    async refreshModels() {
      state.models = await answered(api.GET("/api/v1/loops/{tag}/models", params));
    },
    async refreshTrials() {
      state.trials = await answered(api.GET("/api/v1/loops/{tag}/trials", params));
    },
  };
  provide(KEY, context);
  return context;
}

export function useLoop(): LoopContext {
  const context = inject(KEY);
  if (!context) throw new Error("a step stands inside a loop");
  return context;
}
