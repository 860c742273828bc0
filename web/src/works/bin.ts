/** Bringing back what was deleted. */
import { answered, api, messageOf } from "../api/client";
import { tell } from "../lib/notes";

export async function restore(id: string): Promise<boolean> {
  try {
    await answered(api.POST("/api/v1/bin/{id}/restore", { params: { path: { id } } }));
    tell("It is back.");
    return true;
  } catch (error) {
    tell(messageOf(error));
    return false;
  }
}
