/** Coefficients as they are typed: numbers between spaces, the highest power of s first. */
import { readNumber } from "../lib/format";

/** `0.5; 3 1` into numbers; what cannot be read is named. */
export function readCoefficients(text: string): { values: number[]; wrong: string | null } {
  const words = text
    .trim()
    .split(/[\s;]+/)
    .filter(Boolean);
  const wrong = words.find((word) => !Number.isFinite(readNumber(word))) ?? null;
  return { values: wrong === null ? words.map(readNumber) : [], wrong };
}

export function coefficientsText(values: number[]): string {
  return values.map((value) => String(value)).join(" ");
}

/** `2 s + 1` out of [2, 1]. */
export function polynomialText(values: number[]): string {
  const degree = values.length - 1;
  const terms = values.flatMap((value, k) => {
    if (value === 0 && values.length > 1) return [];
    const power = degree - k;
    const letter = power === 0 ? "" : power === 1 ? " s" : ` s${"⁰¹²³⁴⁵⁶⁷⁸⁹"[power] ?? `^${power}`}`;
    return [`${value === 1 && power > 0 ? "" : String(value).replace("-", "−")}${letter}`.trim()];
  });
  return terms.join(" + ").replaceAll("+ −", "− ") || "0";
}
