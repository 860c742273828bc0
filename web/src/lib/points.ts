/** Points as text, one a line: `first: second`. */
export function pointsText(points: number[][]): string {
  return points.map((point) => point.join(": ")).join("\n");
}

/** The points of a text; null where a line is none. */
export function readPoints(text: string): [number, number][] | null {
  const points = text
    .split(/[\n;]/)
    .map((line) =>
      line
        .split(/[:\s]+/)
        .filter(Boolean)
        .map(Number),
    )
    .filter((point) => point.length > 0);
  const isGood = points.every((point) => point.length === 2 && point.every(Number.isFinite));
  return isGood ? (points as [number, number][]) : null;
}
