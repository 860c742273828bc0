import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";

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
      const { [name]: _, ...others } = route.query;
      void router.replace({ query: value === null ? others : { ...others, [name]: value } });
    },
  });
}
