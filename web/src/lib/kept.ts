/** What a person typed or opened stays when the step is left, and over a reload of the tab. */
import { ref, watch, type Ref } from "vue";

const known = new Map<string, Ref<unknown>>();

/** A value under a name; what was put into it last is there again. */
export function useKept<T>(name: string, first: () => T): Ref<T> {
  const there = known.get(name) as Ref<T> | undefined;
  if (there) return there;
  const stored = sessionStorage.getItem(`antistasis ${name}`);
  let start: T | undefined;
  try {
    start = stored === null ? undefined : (JSON.parse(stored) as T);
  } catch {
    start = undefined;
  }
  const value = ref(start === undefined ? first() : start) as Ref<T>;
  known.set(name, value as Ref<unknown>);
  watch(
    value,
    (now) => {
      try {
        if (now === null || now === undefined) sessionStorage.removeItem(`antistasis ${name}`);
        else sessionStorage.setItem(`antistasis ${name}`, JSON.stringify(now));
      } catch {
        // A full store of the browser: it still stays as long as the page does.
      }
    },
    { deep: true, flush: "post" },
  );
  return value;
}
