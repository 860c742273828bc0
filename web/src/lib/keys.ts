import { onBeforeUnmount, onMounted } from "vue";

/** Keys of the page; keys that go into an entry or an open dialog are left alone. */
export function useKeys(handlers: Record<string, (event: KeyboardEvent) => void>) {
  function pressed(event: KeyboardEvent) {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const target = event.target as HTMLElement;
    if (target.closest("input, select, textarea, [role=dialog], [role=listbox]")) return;
    // A focused button or link takes space and Enter for itself.
    if ((event.key === " " || event.key === "Enter") && target.closest("button, a")) return;
    const handler = handlers[event.key];
    if (handler) {
      event.preventDefault();
      handler(event);
    }
  }
  onMounted(() => window.addEventListener("keydown", pressed));
  onBeforeUnmount(() => window.removeEventListener("keydown", pressed));
}
