/** The form and units of the controller that settings are typed into; what was chosen last is there again. */
import type { Schemas } from "../api/client";
import { useKept } from "../lib/kept";

export type NotationChoice = Required<Schemas["Notation"]>;

export const CHOICES: { key: keyof NotationChoice; label: string; all: [string, string][] }[] = [
  {
    key: "form",
    label: "Form",
    all: [
      ["ideal", "ideal"],
      ["parallel", "parallel"],
      ["series", "series"],
    ],
  },
  {
    key: "proportional",
    label: "Proportional as",
    all: [
      ["gain", "gain"],
      ["band", "proportional band"],
    ],
  },
  {
    key: "integral",
    label: "Integral as",
    all: [
      ["time", "time"],
      ["rate", "rate"],
      ["repeats", "repeats"],
    ],
  },
  {
    key: "time",
    label: "Times in",
    all: [
      ["seconds", "s"],
      ["minutes", "min"],
    ],
  },
  {
    key: "gain_over",
    label: "PV in the gain",
    all: [
      ["percent", "% of span"],
      ["engineering_unit", "its unit"],
    ],
  },
];

/** How settings are taken where nothing is chosen. */
const USUAL: NotationChoice = {
  form: "ideal",
  proportional: "gain",
  integral: "time",
  time: "seconds",
  gain_over: "percent",
};

/** A notation with all that is left out in documents. */
export const wholeNotation = (notation: Schemas["Notation"]): NotationChoice => ({ ...USUAL, ...notation });

/** A notation with one thing chosen otherwise. */
export function withChoice(
  notation: NotationChoice,
  key: keyof NotationChoice,
  value: string,
): NotationChoice {
  const next = { ...notation, [key]: value } as NotationChoice;
  // The parallel form has gains only.
  return next.form === "parallel" ? { ...next, proportional: "gain", integral: "rate" } : next;
}

export function useNotation() {
  const notation = useKept<NotationChoice>("notation", () => ({ ...USUAL }));
  // What was chosen in an older version has no gain over units yet.
  if (!notation.value.gain_over) notation.value = wholeNotation(notation.value);
  return { notation };
}
