/** What half and twice of a number that is being set would do: two trials beside the one that is looked at. */
import { inject, provide, shallowRef, watch, type InjectionKey, type Ref } from "vue";
import { answered, api, type Schemas, type Trial } from "../api/client";
import { gathered } from "./live";
import { plain } from "./plain";

/** A number in an entry that has the focus. */
export interface Explored {
  value: number;
  /** Sets another value; what that changes is caught, and only tried. */
  set: (value: number) => void;
  allows: (value: number) => boolean;
}

export interface Half {
  name: string;
  trace: Schemas["Trace"];
}

const KEY: InjectionKey<(explored: Explored | null) => void> = Symbol("half and twice");
/** How long an entry must rest before more than the trial itself is asked for. */
const RESTING_MS = 300;
const FACTORS: [name: string, factor: number][] = [
  ["½ ×", 0.5],
  ["2 ×", 2],
];

/** For an entry: tells which number has the focus, or that none has. */
export function useExplore(): (explored: Explored | null) => void {
  return inject(KEY, () => undefined);
}

/** For the page that draws them: lets the entries in it tell. */
export function provideExplore(explore: (explored: Explored | null) => void) {
  provide(KEY, explore);
}

export function useHalves(draft: Ref<Trial | null>) {
  const explored = shallowRef<Explored | null>(null);
  const halves = shallowRef<Half[]>([]);
  let catching: Trial | null = null;

  /** The number that has the focus now, or none. */
  function explore(next: Explored | null) {
    explored.value = next;
    if (!next) halves.value = [];
  }

  /** Takes an edit that is only tried; false where it is meant. */
  function catches(edit: (trial: Trial) => void): boolean {
    if (!catching) return false;
    edit(catching);
    return true;
  }

  /** The trial with another value; null where that would be the same one. */
  function tried({ set }: Explored, value: number): Trial | null {
    if (!draft.value) return null;
    const trial = plain(draft.value);
    const before = JSON.stringify(trial);
    catching = trial;
    try {
      set(value);
    } finally {
      catching = null;
    }
    return JSON.stringify(trial) === before ? null : trial;
  }

  watch(
    [explored, draft],
    gathered(async () => {
      const own = explored.value;
      if (!own) return;
      const found: Half[] = [];
      for (const [name, factor] of FACTORS) {
        const value = Number((own.value * factor).toPrecision(6));
        const trial = own.allows(value) ? tried(own, value) : null;
        // One that cannot be run is not drawn: nobody has asked for it.
        const answer = trial
          ? await answered(
              api.POST("/api/v1/simulate", { params: { query: { balances: false } }, body: trial }),
            ).catch(() => null)
          : null;
        if (explored.value !== own) return;
        if (answer) found.push({ name, trace: answer.trace });
      }
      halves.value = found;
    }, RESTING_MS),
  );

  return { halves, catches, explore };
}
