/** What a loop can begin on: the processes of the library at their usual values, and the plants saved for the works. */
import { computed, shallowRef, type ComputedRef } from "vue";
import { answered, api, type Plant, type Schemas } from "../api/client";
import { useOffers } from "../control/useDescription";
import { plain } from "../lib/plain";

export interface Beginning {
  /** Distinct among all. */
  key: string;
  title: string;
  isSaved: boolean;
  /** The plant for a loop, whose signals it carries. */
  plantFor: (loop: Pick<Schemas["LoopCard"], "tag" | "pv" | "op">) => Promise<Plant>;
}

const carrying = (plant: Plant, { pv, op }: Pick<Schemas["LoopCard"], "pv" | "op">): Plant => ({
  ...plant,
  pv: { ...plant.pv, tag: pv.tag },
  op: { ...plant.op, tag: op.tag },
});

const ofLibrary = ({ title, process }: Schemas["Offer"]): Beginning => ({
  key: `library ${title}`,
  title,
  isSaved: false,
  plantFor: async (loop) => {
    const body = { process, tag: loop.tag.trim() };
    return carrying(await answered(api.POST("/api/v1/plants/usual", { body })), loop);
  },
});

const ofWorks = (item: Schemas["SavedItem"]): Beginning => ({
  key: item.id,
  title: item.name,
  isSaved: true,
  plantFor: async (loop) => carrying(plain(item.spec) as unknown as Plant, loop),
});

/** What can be begun on, those of the library first; the saved ones are read anew by `refresh`. */
export function useBeginnings(): { beginnings: ComputedRef<Beginning[]>; refresh: () => Promise<void> } {
  const offers = useOffers();
  const saved = shallowRef<Schemas["SavedItem"][]>([]);
  return {
    beginnings: computed(() => [...offers.value.map(ofLibrary), ...saved.value.map(ofWorks)]),
    async refresh() {
      const params = { query: { kind: "plant" as const } };
      saved.value = await answered(api.GET("/api/v1/saved", { params })).catch(() => []);
    },
  };
}
