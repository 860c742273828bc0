/** Jobs of the server that belong to a loop: each goes on, and is found again, when the step is left meanwhile. */
import { shallowRef, type ShallowRef } from "vue";
import { ApiError } from "../api/client";
import { followed } from "./job";

/** How a job stands, as the server tells it. */
interface Standing {
  id: string;
  stage: string;
  problem?: { detail?: string | null; status: number; field?: string | null } | null;
}

export interface ServerJob<Body, State, Made> {
  /** How it stands; null where none is under way. */
  state: Readonly<ShallowRef<State | null>>;
  /** Follows a job to its end; nothing where it was cancelled. */
  follow: (body: Body) => Promise<Made | null>;
  /** The same with one that was begun before, as the server tells it. */
  resume: (known: State) => Promise<Made | null>;
  cancel: () => void;
}

interface Ways<Body, State, Made> {
  begin: (tag: string, body: Body) => Promise<State>;
  look: (id: string) => Promise<State>;
  end: (id: string) => void;
  /** What it has made, once it is done. */
  made: (state: State) => Made | null;
  /** What is said where it fails without a reason. */
  failed: string;
  /** What is shown of a look, given what was shown before. */
  shown?: (seen: State, before: State | null) => State;
}

/** The job of a kind at each loop. */
export function jobsByLoop<Body, State extends Standing, Made>(ways: Ways<Body, State, Made>) {
  const known = new Map<string, ServerJob<Body, State, Made>>();
  return (tag: string): ServerJob<Body, State, Made> => {
    const job = known.get(tag) ?? jobOf(tag, ways);
    known.set(tag, job);
    return job;
  };
}

function jobOf<Body, State extends Standing, Made>(
  tag: string,
  ways: Ways<Body, State, Made>,
): ServerJob<Body, State, Made> {
  const state = shallowRef(null) as ShallowRef<State | null>;
  let isGivenUp = false;

  const follow = (body: Body) => toTheEnd(() => ways.begin(tag, body));
  const resume = (known: State) => toTheEnd(() => ways.look(known.id), known);

  async function toTheEnd(begin: () => Promise<State>, known?: State): Promise<Made | null> {
    isGivenUp = false;
    try {
      const ended = await followed(
        begin,
        ways.look,
        (seen) => {
          // Cancelled before it was known by name.
          if (isGivenUp && state.value === null) ways.end(seen.id);
          state.value = ways.shown ? ways.shown(seen, state.value) : seen;
        },
        () => isGivenUp,
        known,
      );
      if (isGivenUp) return null;
      if (ended.problem) {
        const { detail, status, field } = ended.problem;
        throw new ApiError(detail ?? ways.failed, status, field ?? undefined);
      }
      return ways.made(ended);
    } finally {
      state.value = null;
    }
  }

  function cancel() {
    isGivenUp = true;
    if (state.value) ways.end(state.value.id);
  }

  return { state, follow, resume, cancel };
}
