/** The chosen model beside the one that something stands on. */
import type { ModelRow } from "../api/client";

/** The chosen model, where something stands on another one; null where it stands on that, on none, or none is chosen. */
export function chosenInstead(models: ModelRow[], own: string | null | undefined): ModelRow | null {
  const chosen = models.find((model) => model.chosen);
  return own && chosen && chosen.id !== own ? chosen : null;
}
