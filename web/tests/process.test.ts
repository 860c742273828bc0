/** Processes and plants as they are edited: polynomials and matrices in fields. */
import { describe, expect, it } from "vitest";
import { coefficientsText, polynomialText, readCoefficients } from "../src/control/polynomials";

describe("coefficients", () => {
  it.each([
    [[1], "1"],
    [[2, 1], "2 s + 1"],
    [[1, 0, 0], "s²"],
    [[10, 3, 1], "10 s² + 3 s + 1"],
    [[-1, 1], "−1 s + 1"],
    [[3, -2, 0, 5], "3 s³ − 2 s² + 5"],
    [[0, 0, 4], "4"],
    [[0], "0"],
  ])("%j read %s", (values, text) => expect(polynomialText(values)).toBe(text));

  it("are read as they are written", () => {
    for (const values of [[1], [0.5, 3, 1], [1e-6, -2.5e8, 0], [60, 1]])
      expect(readCoefficients(coefficientsText(values))).toEqual({ values, wrong: null });
  });

  it.each([
    ["0,5 3", [0.5, 3], null],
    ["0.5; 3 1", [0.5, 3, 1], null],
    ["  10   1 ", [10, 1], null],
    ["−2 1", [-2, 1], null],
    ["1 x 3", [], "x"],
    ["1e", [], "1e"],
    ["", [], null],
  ])("%j is %j", (text, values, wrong) => expect(readCoefficients(text)).toEqual({ values, wrong }));

  it("name what cannot be read and take nothing of the rest", () => {
    expect(readCoefficients("1 2 drei 4").values).toEqual([]);
    expect(readCoefficients("1 2 drei 4").wrong).toBe("drei");
  });

  it("of a polynomial stand beside the powers that they belong to", () => {
    // Read back from the text: value of the polynomial at a point.
    const value = (text: string, s: number) =>
      text
        .replaceAll("− ", "+ −")
        .split(" + ")
        .map((term) => {
          const [, sign, size, letter, power] =
            /^(−?)([\d.e-]*)\s?(s?)([⁰¹²³⁴⁵⁶⁷⁸⁹]?)$/.exec(term.trim()) ?? [];
          const degree = letter ? (power ? "⁰¹²³⁴⁵⁶⁷⁸⁹".indexOf(power) : 1) : 0;
          return (sign ? -1 : 1) * (size === "" ? 1 : Number(size)) * s ** degree;
        })
        .reduce((sum, term) => sum + term, 0);
    for (const values of [
      [2, 1],
      [10, -3, 1],
      [1, 0, -4, 2],
      [0.5, 0.25, 0, 0, 7],
    ])
      for (const s of [-2, 0.5, 3]) {
        const wanted = values.reduce((sum, coefficient) => sum * s + coefficient, 0);
        expect(value(polynomialText(values), s)).toBeCloseTo(wanted, 9);
      }
  });
});
