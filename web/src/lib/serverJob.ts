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
  /** The same with one that was begun before this page was opened; nothing where there is none, or where it is followed already. */
  takeUp: () => Promise<Made | null>;
  cancel: () => void;
}

interface Ways<Body, State, Made> {
  begin: (tag: string, body: Body) => Promise<State>;
  look: (id: string) => Promise<State>;
  /** The jobs of a loop that have not ended, the newest first. */
  underWay: (tag: string) => Promise<State[]>;
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
  let following = 0;

  const follow = (body: Body) => toTheEnd(() => ways.begin(tag, body));

  async function takeUp(): Promise<Made | null> {
    if (following > 0) return null;
    // A server that does not answer is told of by what else the page asks it.
    const [known] = await ways.underWay(tag).catch(() => []);
    if (!known || following > 0) return null;
    return toTheEnd(() => ways.look(known.id), known);
  }

  async function toTheEnd(begin: () => Promise<State>, known?: State): Promise<Made | null> {
    isGivenUp = false;
    following += 1;
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
      following -= 1;
      state.value = null;
    }
  }

  function cancel() {
    isGivenUp = true;
    if (state.value) ways.end(state.value.id);
  }

  return { state, follow, takeUp, cancel };
}
