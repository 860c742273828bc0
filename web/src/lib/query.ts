import { computed } from "vue";
import { useRoute, useRouter, type LocationQueryRaw } from "vue-router";

/** What was set in this turn and does not stand in the address yet. */
let pending: LocationQueryRaw | null = null;

/** What is selected stands in the address, so that a reload shows the same. */
export function useSelected(name: string) {
  const route = useRoute();
  const router = useRouter();
  return computed<string | null>({
    get() {
      const value = route.query[name];
      return typeof value === "string" ? value : null;
    },
    set(value) {
      // Several that are set in one turn go into the address together.
      if (pending) {
        pending[name] = value ?? undefined;
        return;
      }
      pending = { ...route.query, [name]: value ?? undefined };
      queueMicrotask(() => {
        const query = pending ?? {};
        pending = null;
        void router.replace({ query });
      });
    },
  });
}
