/** What is saved with a loop under a name: plants or scenarios. */
import { onMounted, ref, shallowRef } from "vue";
import { answered, api, messageOf, type Schemas, type Trial } from "../api/client";
import { useLoop } from "../lib/loop";

interface Store<Spec> {
  list: (tag: string) => Promise<{ name: string; spec: Spec }[]>;
  put: (path: { tag: string; name: string }, spec: Spec) => Promise<{ error?: unknown }>;
  remove: (path: { tag: string; name: string }) => Promise<{ error?: unknown }>;
}

export const PLANTS: Store<Trial["plant"]> = {
  list: async (tag) =>
    (await answered(api.GET("/api/v1/loops/{tag}/plants", { params: { path: { tag } } }))).map(
      ({ name, plant }) => ({ name, spec: plant }),
    ),
  put: (path, spec) => api.PUT("/api/v1/loops/{tag}/plants/{name}", { params: { path }, body: spec }),
  remove: (path) => api.DELETE("/api/v1/loops/{tag}/plants/{name}", { params: { path } }),
};

export const SCENARIOS: Store<Trial["scenario"]> = {
  list: async (tag) =>
    (await answered(api.GET("/api/v1/loops/{tag}/scenarios", { params: { path: { tag } } }))).map(
      ({ name, scenario }) => ({ name, spec: scenario }),
    ),
  put: (path, spec) => api.PUT("/api/v1/loops/{tag}/scenarios/{name}", { params: { path }, body: spec }),
  remove: (path) => api.DELETE("/api/v1/loops/{tag}/scenarios/{name}", { params: { path } }),
};

export function useSaved<Spec>(store: Store<Spec>) {
  const { tag } = useLoop().state;
  const saved = shallowRef<{ name: string; spec: Spec }[]>([]);
  const trouble = ref("");

  async function refresh() {
    try {
      saved.value = await store.list(tag);
    } catch (error) {
      trouble.value = messageOf(error);
    }
  }

  async function done(request: Promise<{ error?: unknown }>) {
    const { error } = await request;
    trouble.value = error ? ((error as Schemas["Problem"]).detail ?? "The server refused it.") : "";
    await refresh();
  }

  onMounted(refresh);
  return {
    saved,
    trouble,
    save: (name: string, spec: Spec) => done(store.put({ tag, name }, spec)),
    forget: (name: string) => done(store.remove({ tag, name })),
    /** A copy of what is saved under a name. */
    find: (name: string): Spec | null => {
      const row = saved.value.find((known) => known.name === name);
      return row ? (JSON.parse(JSON.stringify(row.spec)) as Spec) : null;
    },
  };
}
