/** What is written for the dossier of a loop: kept a moment after it was typed, and told when somebody else changed it. */
import { onBeforeUnmount, onMounted, ref, shallowRef, watch } from "vue";
import { answered, api, ApiError, fieldOf, ifMatch, messageOf, type Schemas } from "../api/client";
import { comebacks, useChanges } from "../lib/live";
import { plain } from "../lib/plain";

export type DossierSpec = Schemas["DossierSpec"];
export type Part = Schemas["Part"];

/** Pause after the last letter before what was typed is kept. */
const PAUSE = 700;

/** What was typed and is not kept by the server yet: it outlives the tab. */
interface Unsaved {
  /** The revision that it was changed from. */
  revision: number;
  spec: DossierSpec;
}

function unsavedAt(place: string): Unsaved | null {
  try {
    return JSON.parse(localStorage.getItem(place) ?? "null") as Unsaved | null;
  } catch {
    return null;
  }
}

export function useDossier(tag: string, loopId: () => string | undefined) {
  const spec = ref<DossierSpec | null>(null);
  const parts = shallowRef<Schemas["PartOffer"][]>([]);
  /** 0 as long as it is only proposed. */
  const revision = ref(0);
  const isLoaded = ref(false);
  const trouble = ref("");
  const field = ref("");
  /** What stands there since somebody else changed it while this was being typed. */
  const theirs = shallowRef<Schemas["DossierState"] | null>(null);
  let kept = "";
  let pause = 0;
  let isKeeping = false;
  let isRemembered = false;

  const path = { tag };
  const textOf = (own: DossierSpec | null) => JSON.stringify(own);
  /** Where what is not kept yet stands in this browser: tags change, loops stay the same. */
  const place = () => `antistasis unsaved dossier ${loopId() ?? tag}`;

  /** Lets what was typed outlive the tab as long as the server does not have it. */
  function remember() {
    const isKept = !spec.value || textOf(spec.value) === kept;
    try {
      // What another tab remembers there is not this one's to forget.
      if (!isKept)
        localStorage.setItem(place(), JSON.stringify({ revision: revision.value, spec: spec.value }));
      else if (isRemembered) localStorage.removeItem(place());
      isRemembered = !isKept;
    } catch {
      // A full store of the browser: it still stays as long as the page does.
    }
  }

  function take(state: Schemas["DossierState"]) {
    spec.value = state.spec ?? null;
    parts.value = state.parts;
    revision.value = state.revision;
    kept = textOf(spec.value);
    theirs.value = null;
    trouble.value = "";
    field.value = "";
  }

  async function load() {
    // What is on its way comes back as a change of one's own.
    if (isKeeping) return;
    try {
      const state = await answered(api.GET("/api/v1/loops/{tag}/dossier", { params: { path } }));
      const isTyped = isLoaded.value && textOf(spec.value) !== kept;
      const before = isLoaded.value ? null : unsavedAt(place());
      isLoaded.value = true;
      if (before) {
        isRemembered = true;
        // It goes on where the tab was closed: kept now, or held against what another wrote since.
        take(state);
        spec.value = before.spec;
        revision.value = before.revision;
        if (state.revision !== before.revision) theirs.value = state;
        return;
      }
      // What is being typed stays.
      if (!isTyped) take(state);
      else if (state.revision !== revision.value) theirs.value = state;
    } catch (error) {
      trouble.value = messageOf(error);
    }
  }

  /** `leaving` lets the request outlive the page. */
  async function keep(force = false, leaving = false) {
    clearTimeout(pause);
    const own = spec.value;
    const text = textOf(own);
    if (!own || isKeeping || (text === kept && !force) || (theirs.value && !force)) return;
    isKeeping = true;
    try {
      const params = { path, header: ifMatch(revision.value, force) };
      const state = await answered(
        api.PUT("/api/v1/loops/{tag}/dossier", { params, body: plain(own), keepalive: leaving }),
      );
      revision.value = state.revision;
      parts.value = state.parts;
      kept = text;
      theirs.value = null;
      trouble.value = "";
      field.value = "";
      remember();
    } catch (error) {
      if (error instanceof ApiError && error.status === 412) {
        theirs.value = await answered(api.GET("/api/v1/loops/{tag}/dossier", { params: { path } })).catch(
          () => null,
        );
      }
      trouble.value = messageOf(error);
      field.value = fieldOf(error);
    } finally {
      isKeeping = false;
    }
    // What was typed while it was on its way.
    if (textOf(spec.value) !== text && !theirs.value) later();
  }

  function later() {
    clearTimeout(pause);
    pause = window.setTimeout(() => void keep(), PAUSE);
  }

  watch(
    spec,
    () => {
      remember();
      if (textOf(spec.value) !== kept) later();
    },
    { deep: true },
  );
  watch(comebacks, load);
  onMounted(load);
  useChanges((change) => {
    if (!change || (change.kind === "dossier" && change.loop_id === loopId())) void load();
  });
  // What was typed last is kept on leaving, too: the step, or the tab.
  const leave = () => void keep(false, true);
  onMounted(() => window.addEventListener("pagehide", leave));
  onBeforeUnmount(() => {
    window.removeEventListener("pagehide", leave);
    void keep();
  });

  return {
    spec,
    parts,
    revision,
    isLoaded,
    trouble,
    field,
    theirs,
    keep,
    takeTheirs: () => {
      if (theirs.value) take(theirs.value);
      remember();
    },
    keepMine: () => keep(true),
  };
}

/** The parts with one moved up or down by one place. */
export function moved(parts: Part[], part: Part, by: -1 | 1): Part[] {
  const from = parts.indexOf(part);
  const to = from + by;
  if (from < 0 || to < 0 || to >= parts.length) return parts;
  const next = [...parts];
  next.splice(from, 1);
  next.splice(to, 0, part);
  return next;
}
