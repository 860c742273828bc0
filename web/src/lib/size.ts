import { onBeforeUnmount, ref, watch, type Ref } from "vue";

/** The size of an element in CSS pixels, from when it is there. */
export function useSize(host: Readonly<Ref<HTMLElement | null>>): Ref<{ width: number; height: number }> {
  const size = ref({ width: 400, height: 240 });
  const observer = new ResizeObserver(([entry]) => {
    if (entry) size.value = { width: entry.contentRect.width, height: entry.contentRect.height };
  });
  watch(
    host,
    (element) => {
      observer.disconnect();
      if (element) observer.observe(element);
    },
    { flush: "post", immediate: true },
  );
  onBeforeUnmount(() => observer.disconnect());
  return size;
}
