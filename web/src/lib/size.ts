import { onBeforeUnmount, onMounted, ref, type Ref } from "vue";

/** The size of an element in pixels, kept as it changes. */
export function useSize(host: Readonly<Ref<HTMLElement | null>>) {
  const size = ref({ width: 600, height: 300 });
  const observer = new ResizeObserver(() => {
    if (host.value) size.value = { width: host.value.clientWidth, height: host.value.clientHeight };
  });
  onMounted(() => host.value && observer.observe(host.value));
  onBeforeUnmount(() => observer.disconnect());
  return size;
}
