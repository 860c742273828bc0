/** What changes on the server, told as it happens; and whether the server answers at all. */
import { onBeforeUnmount, ref } from "vue";
import type { Schemas } from "../api/client";

export type Change = Schemas["Change"];
/** A change, or null where any number may have been missed: everything is to be looked at again. */
type Listener = (change: Change | null) => void;

/** Whether the server has answered lately. */
export const online = ref(true);

/** How often the server came back; whoever watches it asks again what may have failed meanwhile. */
export const comebacks = ref(0);

const listeners = new Set<Listener>();
let source: EventSource | null = null;
let probing = 0;

function tell(change: Change | null) {
  for (const listener of listeners) listener(change);
}

function connect() {
  source?.close();
  source = new EventSource("/api/v1/events");
  source.addEventListener("change", (event) => tell(JSON.parse(event.data as string) as Change));
  source.addEventListener("lost", () => tell(null));
  source.addEventListener("hello", () => {
    // The first connection has nothing to catch up with.
    if (online.value) return;
    online.value = true;
    comebacks.value += 1;
    tell(null);
  });
  source.addEventListener("error", unanswered);
}

/** The server did not answer: asks again until it does, then everything is looked at again. */
export function unanswered() {
  if (!online.value) return;
  online.value = false;
  window.clearInterval(probing);
  probing = window.setInterval(() => {
    void fetch("/api/v1/health")
      .then((answer) => {
        if (!answer.ok) return;
        window.clearInterval(probing);
        connect();
      })
      .catch(() => undefined);
  }, 700);
}

/** Hears of every change as long as the component is there. */
export function useChanges(listener: Listener) {
  listeners.add(listener);
  if (!source) connect();
  onBeforeUnmount(() => listeners.delete(listener));
}

/** Calls once for a burst of calls. */
export function gathered(act: () => unknown, wait = 120): () => void {
  let timer = 0;
  return () => {
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void act(), wait);
  };
}
