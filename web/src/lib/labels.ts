/** Where labels stand that must not cover each other. */

/** Heights of labels in rows of text so that no row is lost: a second row is given up from the last on where all do not fit. */
export function rowsThatFit(wanted: number[], room: number): number[] {
  const rows = [...wanted];
  let total = rows.reduce((sum, height) => sum + height, 0);
  for (let k = rows.length - 1; k >= 0 && total > room; k -= 1) {
    total -= (rows[k] as number) - 1;
    rows[k] = 1;
  }
  return rows;
}

/** First rows of labels that want to stand at these heights, in rising order, so that none covers another. */
export function spread(wanted: number[], heights: number[], top: number, bottom: number): number[] {
  const at: number[] = [];
  wanted.forEach((y, k) => {
    const free = k === 0 ? top : (at[k - 1] as number) + (heights[k - 1] as number);
    at.push(Math.max(y, free));
  });
  let lowest = bottom;
  for (let k = at.length - 1; k >= 0; k -= 1) {
    at[k] = Math.min(at[k] as number, lowest - (heights[k] as number));
    lowest = at[k] as number;
  }
  return at;
}

export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}

const apart = (a: Box, b: Box) =>
  a.x + a.width <= b.x || b.x + b.width <= a.x || a.y + a.height <= b.y || b.y + b.height <= a.y;

/** How many of these points a box covers. */
const covered = (box: Box, points: [number, number][]) =>
  points.filter(([x, y]) => x > box.x && x < box.x + box.width && y > box.y && y < box.y + box.height).length;

/**
 * Boxes of labels beside their points: the nearest place that covers no other label and no point of a curve; where there is
 * none, the one that covers fewest points. Never outside the frame.
 */
export function beside(
  wanted: { x: number; y: number; width: number; height: number }[],
  curves: [number, number][],
  frame: Box,
): Box[] {
  const boxes: Box[] = [];
  for (const { x, y, width, height } of wanted) {
    const places: Box[] = [];
    for (const away of [8, 20, 34, 50, 70, 95]) {
      for (const [dx, dy] of [
        [1, 0],
        [1, -1],
        [1, 1],
        [-1, 0],
        [-1, -1],
        [-1, 1],
        [0, -1],
        [0, 1],
      ] as const) {
        const left = dx > 0 ? x + away : dx < 0 ? x - away - width : x - width / 2;
        const top = y - height / 2 + dy * (away + (dx === 0 ? height / 2 : 0));
        places.push({ x: left, y: top, width, height });
      }
    }
    const inside = (box: Box) =>
      box.x >= frame.x &&
      box.y >= frame.y &&
      box.x + width <= frame.x + frame.width &&
      box.y + height <= frame.y + frame.height;
    const free = places.filter((box) => inside(box) && boxes.every((other) => apart(box, other)));
    const clear = free.find((box) => covered(box, curves) === 0);
    const least = () => free.toSorted((a, b) => covered(a, curves) - covered(b, curves))[0];
    const clamped = {
      x: Math.min(Math.max(x + 8, frame.x), frame.x + frame.width - width),
      y: Math.min(Math.max(y - height / 2, frame.y), frame.y + frame.height - height),
      width,
      height,
    };
    boxes.push(clear ?? least() ?? clamped);
  }
  return boxes;
}
