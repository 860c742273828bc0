import fc from "fast-check";
import { expect, it } from "vitest";
import { clockSplits, clockText, dayOf } from "../src/lib/clock";

const START = "2026-03-05T14:30:07";

it("shows the time of the record, in no other zone", () => {
  expect(clockText(START, 0, 0)).toBe("2026-03-05 14:30:07");
  expect(clockText(`${START}Z`, 3600, 7200)).toBe("15:30");
  expect(clockText(START, 3600, 60)).toBe("15:30:07");
  expect(clockText(START, 0.25, 5)).toBe("14:30:07.250");
  expect(clockText(START, 86_400, 3 * 86_400)).toBe("06. 14:30");
  expect(clockText(START, 86_400, 30 * 86_400)).toBe("03-06");
  expect(dayOf(START, 10 * 3600)).toBe("2026-03-06");
  expect(clockText("not a date", 0, 60)).toBe("");
});

it("puts ticks at round times, in sight, and at least as far apart as their texts are wide", () => {
  const windows = fc.tuple(
    fc.double({ min: 0, max: 3e6, noNaN: true }),
    fc.double({ min: 1, max: 3e6, noNaN: true }),
    fc.integer({ min: 200, max: 1800 }),
  );
  fc.assert(
    fc.property(windows, ([from, length, width]) => {
      const splits = clockSplits(START, [from, from + length], width);
      for (const time of splits) {
        expect(time).toBeGreaterThanOrEqual(from - 1e-6 * length);
        expect(time).toBeLessThanOrEqual(from + length * (1 + 1e-6));
      }
      for (let k = 1; k < splits.length; k += 1) {
        const pixels = (((splits[k] as number) - (splits[k - 1] as number)) / length) * width;
        expect(pixels).toBeGreaterThan(80);
      }
    }),
  );
});

it("counts whole minutes where a tick a minute fits", () => {
  const splits = clockSplits(START, [0, 600], 1000);
  expect(splits.map((time) => clockText(START, time, 600))).toEqual([
    "14:31:00",
    "14:32:00",
    "14:33:00",
    "14:34:00",
    "14:35:00",
    "14:36:00",
    "14:37:00",
    "14:38:00",
    "14:39:00",
    "14:40:00",
  ]);
});
