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

function tell(change: Change | null) {
  for (const listener of listeners) listener(change);
}

/** What is heard, whether by this tab or by the one that listens for all. */
type Message = { name: "change"; change: Change } | { name: "lost" | "hello" | "error" };

function heard(message: Message) {
  if (message.name === "change") tell(message.change);
  else if (message.name === "lost") tell(null);
  else if (message.name === "error") unanswered();
  else if (!online.value) {
    // The first connection has nothing to catch up with.
    online.value = true;
    comebacks.value += 1;
    tell(null);
  }
}

// A browser has six connections for a server: of all tabs one listens, and passes on what it hears.
let source: EventSource | null = null;
let channel: BroadcastChannel | null = null;
let probing = 0;

function listen() {
  source?.close();
  source = new EventSource("/api/v1/events");
  const pass = (message: Message) => {
    heard(message);
    channel?.postMessage(message);
  };
  source.addEventListener("change", (event) =>
    pass({ name: "change", change: JSON.parse(event.data as string) as Change }),
  );
  for (const name of ["lost", "hello", "error"] as const) source.addEventListener(name, () => pass({ name }));
}

function connect() {
  channel = new BroadcastChannel("antistasis");
  channel.addEventListener("message", (event: MessageEvent<Message>) => heard(event.data));
  // Whoever holds the lock listens; it is free again when that tab is closed.
  void navigator.locks.request("antistasis events", () => {
    listen();
    return new Promise<never>(() => undefined);
  });
  // A page that the browser keeps for *Back* holds no connection, and looks at everything again when it is shown.
  window.addEventListener("pagehide", () => source?.close());
  window.addEventListener("pageshow", (event) => {
    if (!event.persisted) return;
    if (source) listen();
    tell(null);
  });
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
        if (source) listen();
        else heard({ name: "hello" });
      })
      .catch(() => undefined);
  }, 700);
}

/** Hears of every change as long as the component is there. */
export function useChanges(listener: Listener) {
  listeners.add(listener);
  if (!channel) connect();
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
