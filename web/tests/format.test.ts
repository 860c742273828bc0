import fc from "fast-check";
import { describe, expect, it } from "vitest";
import {
  ago,
  duration,
  editable,
  letter,
  number,
  plural,
  readDuration,
  readNumber,
  signed,
  timeUnit,
} from "../src/lib/format";

describe("numbers", () => {
  it("are read without an exponent where none is needed", () => {
    expect([0, 1.23456, -0.5, 123.4, 12345.6, 999.96, 1e7, 0.00001234].map((value) => number(value))).toEqual(
      ["0", "1.23", "−0.5", "123", "12346", "1000", "1·10⁷", "1.23·10⁻⁵"],
    );
    expect([null, undefined, NaN, Infinity].map((value) => number(value))).toEqual(["–", "–", "–", "–"]);
    expect([signed(0.3), signed(-0.3), signed(0)]).toEqual(["+0.3", "−0.3", "0"]);
  });

  it("keep their digits, whatever they are", () => {
    const within = fc.double({ min: 1e-4, max: 9e6, noNaN: true });
    fc.assert(
      fc.property(within, fc.integer({ min: 2, max: 6 }), fc.boolean(), (size, digits, isNegative) => {
        const value = isNegative ? -size : size;
        const text = number(value, digits);
        expect(text).not.toMatch(/e/);
        const error = Math.abs(readNumber(text) - value);
        expect(error).toBeLessThanOrEqual(
          0.5000001 * Math.max(10 ** (1 - digits) * size, size >= 10 ** digits ? 1 : 0),
        );
      }),
    );
  });

  it("are typed with comma or point, and stand in an entry as they can be typed again", () => {
    expect(readNumber(" 1,5 ")).toBe(1.5);
    expect(readNumber("−2")).toBe(-2);
    expect(readNumber("")).toBeNaN();
    expect(readNumber("abc")).toBeNaN();
    fc.assert(
      fc.property(fc.double({ min: -1e9, max: 1e9, noNaN: true }), (value) => {
        const again = readNumber(editable(value));
        expect(editable(again)).toBe(editable(value));
      }),
    );
  });
});

describe("durations", () => {
  it("are typed as people write them", () => {
    const typed: [string, number][] = [
      ["90", 90],
      ["90 s", 90],
      ["2 h", 7200],
      ["2h", 7200],
      ["1,5 min", 90],
      ["3 d", 259_200],
      ["36:10", 2170],
      ["1:30:00", 5400],
      ["250 ms", 0.25],
      ["1e3", 1000],
    ];
    for (const [text, seconds] of typed) expect(readDuration(text), text).toBeCloseTo(seconds, 9);
    for (const text of ["", "abc", "2 weeks", "1:2:3:4", "1:-5", "h", "3 d 2 h"])
      expect(readDuration(text), text).toBeNaN();
  });

  it("that are read out loud are typed back to the same", () => {
    fc.assert(
      fc.property(fc.double({ min: 0.01, max: 3e7, noNaN: true }), (seconds) => {
        const again = readDuration(duration(seconds, 6));
        expect(Math.abs(again / seconds - 1)).toBeLessThan(1e-5);
      }),
    );
  });

  it("change their unit where minutes, hours and days begin", () => {
    expect([599, 600, 7199, 7200, 345_599, 345_600].map((seconds) => timeUnit(seconds).symbol)).toEqual([
      "s",
      "min",
      "min",
      "h",
      "h",
      "d",
    ]);
  });

  it("ago are counted from now", () => {
    const now = Date.parse("2026-03-05T12:00:00Z");
    const at = (seconds: number) => ago(new Date(now - seconds * 1000).toISOString(), now);
    expect([at(5), at(600), at(7200), at(40 * 3600), at(40 * 86_400)]).toEqual([
      "just now",
      "10 min ago",
      "2 h ago",
      "2 d ago",
      "2026-01-24",
    ]);
  });
});

it("letters count on after Z", () => {
  expect([1, 2, 26, 27, 52, 53, 702, 703].map(letter)).toEqual([
    "A",
    "B",
    "Z",
    "AA",
    "AZ",
    "BA",
    "ZZ",
    "AAA",
  ]);
  expect([plural(1, "trial"), plural(0, "trial"), plural(5, "trial")]).toEqual([
    "1 trial",
    "0 trials",
    "5 trials",
  ]);
});
