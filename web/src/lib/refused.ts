/** What the server refused, told at the entry that it is about. */
import { inject, provide, type InjectionKey, type Ref } from "vue";

export interface Refused {
  /** The last name of the path, such as `gain`. */
  key: string;
  text: string;
  /** The whole path, by which entries of like names in several rows are told apart. */
  path?: string;
}

const KEY: InjectionKey<Readonly<Ref<Refused | null>>> = Symbol("refused");

export function provideRefused(refused: Readonly<Ref<Refused | null>>) {
  provide(KEY, refused);
}

/** What is refused of the entry with this key. */
export function useRefused(): (key: string) => string {
  const refused = inject(KEY, null);
  return (key) => {
    const now = refused?.value;
    if (!now) return "";
    // `cvs[0].high` is one row's alone.
    const own = key.includes("[") ? (now.path ?? "").endsWith(`.${key}`) : lastName(key) === now.key;
    return own ? now.text : "";
  };
}

/** `scenario.events[0].at` ends in `at`. */
export function lastName(path: string): string {
  return (
    path
      .split(/[./]/)
      .at(-1)
      ?.replace(/\[\d+\]$/, "") ?? path
  );
}

/** The event that a path is about. */
export function eventOf(path: string): number | null {
  const found = /(?:events[[./]|further\.[^[]+\[)(\d+)/.exec(path);
  return found ? Number(found[1]) : null;
}
