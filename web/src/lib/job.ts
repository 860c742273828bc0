/** A job of the server, from its beginning to its end, whatever becomes of the server meanwhile. */
import { isMissing, isUnanswered } from "../api/client";

interface Job {
  id: string;
  stage: string;
}

/** How often is looked how far it is, and how soon a server that did not answer is asked again. */
const LOOK_MS = 80;
const ASK_AGAIN_MS = 700;
/** So often a job is begun anew: a server that forgets it each time will not end it. */
const MOST_BEGINNINGS = 5;

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/**
 * Begins a job and follows it to its end; `seen` hears of each look. A server that was started again knows nothing of it: it
 * begins anew there. While the server does not answer it is waited for, until `isGivenUp`. One that is `known` is not begun.
 */
export async function followed<J extends Job>(
  begin: () => Promise<J>,
  look: (id: string) => Promise<J>,
  seen: (state: J) => void,
  isGivenUp: () => boolean,
  known?: J,
): Promise<J> {
  let state = known ?? (await begin());
  let beginnings = 1;
  let isForgotten = false;
  seen(state);
  while (state.stage === "running") {
    await pause(LOOK_MS);
    try {
      state = isForgotten ? await begin() : await look(state.id);
      if (isForgotten) beginnings += 1;
      isForgotten = false;
    } catch (error) {
      if (isUnanswered(error) && !isGivenUp()) await pause(ASK_AGAIN_MS);
      else if (isMissing(error) && !isForgotten && !isGivenUp() && beginnings < MOST_BEGINNINGS)
        isForgotten = true;
      else throw error;
      continue;
    }
    seen(state);
  }
  return state;
}
