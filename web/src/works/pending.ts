/** A file that was chosen at one place and is read at another: from the home page into a new loop. */
import { shallowRef } from "vue";

export const pendingFile = shallowRef<File | null>(null);
