/** Short notes at the foot of the page: what was done, and the way back. */
import { ref } from "vue";

export interface Note {
  id: number;
  text: string;
  action?: { title: string; act: () => unknown };
}

export const notes = ref<Note[]>([]);
let count = 0;

/** Tells something; it goes by itself after a while. */
export function tell(text: string, action?: Note["action"]) {
  count += 1;
  const id = count;
  notes.value = [...notes.value.slice(-2), { id, text, action }];
  window.setTimeout(() => dismiss(id), action ? 12_000 : 6_000);
}

export function dismiss(id: number) {
  notes.value = notes.value.filter((note) => note.id !== id);
}
