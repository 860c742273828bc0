/** What is saved for the works under a name: plants, scenarios, candidates, proving sets. */
import { onMounted, shallowRef, ref } from "vue";
import { answered, api, ifMatch, messageOf, unreadableOf, type Schemas } from "../api/client";
import { gathered, useChanges } from "../lib/live";
import { useLoop } from "../lib/loop";
import { tell } from "../lib/notes";
import { restore } from "../works/bin";
import { plain } from "../lib/plain";

export type Kind = Schemas["SavedKind"];
export type SavedItem = Schemas["SavedItem"];
export type UnreadableItem = Schemas["Unreadable"];
type Content<K extends Kind> = Extract<Schemas["SavedSpec"], { kind: K }>["spec"];

export function useSaved<K extends Kind>(kind: K) {
  const { state } = useLoop();
  const saved = shallowRef<SavedItem[]>([]);
  /** What is saved and this version cannot read. */
  const unreadable = shallowRef<UnreadableItem[]>([]);
  const trouble = ref("");

  async function load() {
    try {
      const params = { query: { kind } };
      const asked = api.GET("/api/v1/saved", { params });
      saved.value = await answered(asked);
      const count = unreadableOf(await asked);
      unreadable.value = count ? await answered(api.GET("/api/v1/saved/unreadable", { params })) : [];
    } catch (error) {
      trouble.value = messageOf(error);
    }
  }

  async function attempt(act: () => Promise<unknown>): Promise<boolean> {
    try {
      await act();
      trouble.value = "";
      await load();
      return true;
    } catch (error) {
      trouble.value = messageOf(error);
      return false;
    }
  }

  /** Saves under a new name; what is called that already stays, and that is told. */
  const save = (name: string, spec: Content<K>) =>
    attempt(() =>
      answered(
        api.POST("/api/v1/saved", {
          body: { name, made_in: state.tag, content: { kind, spec } as Schemas["SavedSpec"] },
        }),
      ),
    );

  /** Renames, annotates, or with a spec replaces what is saved. */
  const change = async (
    item: SavedItem,
    name: string,
    remark: string,
    spec: Content<K> | null,
    force = false,
  ) => {
    const params = { path: { id: item.id }, header: ifMatch(item.revision, force) };
    const content = spec ? ({ kind, spec } as Schemas["SavedSpec"]) : null;
    await answered(api.PUT("/api/v1/saved/{id}", { params, body: { name, remark, content } }));
    await load();
  };

  const forget = (item: { id: string }) =>
    attempt(async () => {
      const gone = await answered(api.DELETE("/api/v1/saved/{id}", { params: { path: { id: item.id } } }));
      tell(`In the bin: ${gone.title}.`, { title: "Bring it back", act: () => restore(gone.id).then(load) });
    });

  /** A copy of the spec, to be changed. */
  const specOf = (item: SavedItem) => plain(item.spec) as Content<K>;

  onMounted(load);
  const again = gathered(() => void load());
  useChanges((what) => (!what || what.kind === "saved") && again());
  return { saved, unreadable, trouble, save, change, forget, specOf };
}
