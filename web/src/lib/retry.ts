/** What failed because the server did not answer is asked again by itself when it does. */
import { watch } from "vue";
import { online } from "./live";

/** Calls `again` when the server answers again, where `wanted` says that it failed for that. */
export function useRetry(wanted: () => boolean, again: () => unknown) {
  watch(online, (now) => {
    if (now && wanted()) void again();
  });
}
