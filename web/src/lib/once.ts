/** Lists that never change while the server runs. */
import { shallowRef, watch } from "vue";
import { comebacks } from "./live";

/** A list that is fetched by the first who needs it, and asked for again when the server comes back before it was had. */
export function fetchedOnce<T>(fetch: () => Promise<T[]>) {
  const list = shallowRef<T[]>([]);
  const use = () => {
    const missing = () => {
      if (list.value.length > 0) return;
      fetch()
        .then((all) => (list.value = all))
        .catch(() => undefined);
    };
    watch(comebacks, missing, { immediate: true });
    return list;
  };
  return { list, use };
}
