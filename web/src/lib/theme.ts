import { ref, watch } from "vue";

export type Theme = "light" | "dark" | "system";

const STORED = "antistasis-theme";
const dark = window.matchMedia("(prefers-color-scheme: dark)");

function stored(): Theme {
  const value = localStorage.getItem(STORED);
  return value === "light" || value === "dark" ? value : "system";
}

export const theme = ref<Theme>(stored());
/** Counts changes of colour, so that what is drawn on a canvas knows when to draw again. */
export const paletteVersion = ref(0);

/** Paper is light, whatever the hour. */
let onPaper = false;

function apply() {
  const isDark = !onPaper && (theme.value === "dark" || (theme.value === "system" && dark.matches));
  document.documentElement.dataset.theme = isDark ? "dark" : "light";
  colours.clear();
  paletteVersion.value += 1;
}

export function followTheme() {
  apply();
  dark.addEventListener("change", apply);
  window.addEventListener("beforeprint", () => {
    onPaper = true;
    apply();
  });
  window.addEventListener("afterprint", () => {
    onPaper = false;
    apply();
  });
  watch(theme, (value) => {
    if (value === "system") localStorage.removeItem(STORED);
    else localStorage.setItem(STORED, value);
    apply();
  });
}

export function nextTheme() {
  const order: Theme[] = ["system", "light", "dark"];
  theme.value = order[(order.indexOf(theme.value) + 1) % order.length] ?? "system";
}

const colours = new Map<string, string>();

/** The value of a colour token, for the canvas. */
export function colour(token: string): string {
  let value = colours.get(token);
  if (value === undefined) {
    value = getComputedStyle(document.documentElement).getPropertyValue(token).trim();
    colours.set(token, value);
  }
  return value;
}
