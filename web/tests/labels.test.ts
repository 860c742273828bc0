import fc from "fast-check";
import { expect, it } from "vitest";
import { beside, rowsThatFit, spread } from "../src/lib/labels";

it("second rows are given up from the last on, first rows never", () => {
  expect(rowsThatFit([2, 1, 2], 5)).toEqual([2, 1, 2]);
  expect(rowsThatFit([2, 1, 2], 4)).toEqual([2, 1, 1]);
  expect(rowsThatFit([2, 2, 2], 1)).toEqual([1, 1, 1]);
  expect(rowsThatFit([], 3)).toEqual([]);
});

it("labels never cover each other, and stay within the panel where they fit", () => {
  const label = fc.tuple(fc.double({ min: -50, max: 250, noNaN: true }), fc.constantFrom(14, 28));
  fc.assert(
    fc.property(fc.array(label, { maxLength: 7 }), (labels) => {
      const sorted = [...labels].sort((a, b) => a[0] - b[0]);
      const heights = sorted.map(([, height]) => height);
      const at = spread(
        sorted.map(([y]) => y),
        heights,
        0,
        200,
      );
      at.forEach((y, k) => {
        if (k > 0)
          expect(y).toBeGreaterThanOrEqual((at[k - 1] as number) + (heights[k - 1] as number) - 1e-9);
        expect(y + (heights[k] as number)).toBeLessThanOrEqual(200 + 1e-9);
      });
      const total = heights.reduce((sum, height) => sum + height, 0);
      if (total <= 200) expect(Math.min(0, ...at)).toBeGreaterThanOrEqual(-1e-9);
    }),
  );
});

it("a label that is in nobody's way stands where its curve ends", () => {
  expect(spread([20, 100], [14, 14], 0, 200)).toEqual([20, 100]);
});

it("labels beside points cover neither each other nor a curve where there is room", () => {
  const frame = { x: 0, y: 0, width: 800, height: 500 };
  const at = fc.record({
    x: fc.integer({ min: 150, max: 650 }),
    y: fc.integer({ min: 100, max: 400 }),
    width: fc.constant(70),
    height: fc.constant(13),
  });
  // A falling curve, sampled as densely as it is drawn.
  const curve = Array.from({ length: 400 }, (_, k): [number, number] => [2 * k, 450 * Math.exp(-k / 120)]);
  fc.assert(
    fc.property(fc.array(at, { maxLength: 6 }), (wanted) => {
      const boxes = beside(wanted, curve, frame);
      boxes.forEach((box, k) => {
        const onCurve = curve.some(
          ([x, y]) => x > box.x && x < box.x + box.width && y > box.y && y < box.y + box.height,
        );
        expect(onCurve).toBe(false);
        expect(box.x >= 0 && box.x + box.width <= 800 && box.y >= 0 && box.y + box.height <= 500).toBe(true);
        for (const other of boxes.slice(0, k)) {
          const overlapX = box.x < other.x + other.width && other.x < box.x + box.width;
          const overlapY = box.y < other.y + other.height && other.y < box.y + box.height;
          expect(overlapX && overlapY).toBe(false);
        }
      });
    }),
  );
});

it("a label without any free place still stands inside the frame", () => {
  const everywhere = Array.from({ length: 4000 }, (_, k): [number, number] => [k % 80, Math.floor(k / 80)]);
  const [box] = beside([{ x: 78, y: 2, width: 40, height: 13 }], everywhere, {
    x: 0,
    y: 0,
    width: 80,
    height: 50,
  });
  expect(box!.x + box!.width).toBeLessThanOrEqual(80);
  expect(box!.y).toBeGreaterThanOrEqual(0);
});
