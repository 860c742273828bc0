/** Lines of equal value on a grid, for drawing: marching squares, straight between neighbours. */
export function contours(
  x: number[],
  y: number[],
  /** Rows along y; null where there is no value. */
  values: (number | null)[][],
  level: number,
): [number, number][][] {
  const segments: [string, string][] = [];
  const points = new Map<string, [number, number]>();
  const at = (i: number, j: number) => values[j]?.[i] ?? null;
  /** The crossing on the edge from (i, j) to the next along x or y. */
  function crossing(i: number, j: number, along: "x" | "y"): string | null {
    const [a, b] = [at(i, j), along === "x" ? at(i + 1, j) : at(i, j + 1)];
    if (a === null || b === null || a < level === b < level) return null;
    const key = `${i} ${j} ${along}`;
    const share = (level - a) / (b - a);
    const between = (list: number[], k: number) =>
      (list[k] as number) + share * ((list[k + 1] as number) - (list[k] as number));
    points.set(key, along === "x" ? [between(x, i), y[j] as number] : [x[i] as number, between(y, j)]);
    return key;
  }
  for (let j = 0; j + 1 < y.length; j += 1) {
    for (let i = 0; i + 1 < x.length; i += 1) {
      const found = [
        crossing(i, j, "x"),
        crossing(i + 1, j, "y"),
        crossing(i, j + 1, "x"),
        crossing(i, j, "y"),
      ].filter((key): key is string => key !== null);
      for (let k = 0; k + 1 < found.length; k += 2)
        segments.push([found[k] as string, found[k + 1] as string]);
    }
  }
  // Segments that meet become one line.
  const ends = new Map<string, number[]>();
  segments.forEach((segment, k) => segment.forEach((key) => ends.set(key, [...(ends.get(key) ?? []), k])));
  const used = new Set<number>();
  const lines: [number, number][][] = [];
  const follow = (from: string, line: string[], first: boolean) => {
    let key = from;
    for (;;) {
      const next = (ends.get(key) ?? []).find((k) => !used.has(k));
      if (next === undefined) return;
      used.add(next);
      const [a, b] = segments[next] as [string, string];
      key = a === key ? b : a;
      if (first) line.push(key);
      else line.unshift(key);
    }
  };
  segments.forEach((segment, k) => {
    if (used.has(k)) return;
    const line = [segment[0]];
    follow(segment[0], line, true);
    follow(segment[0], line, false);
    lines.push(line.map((key) => points.get(key) as [number, number]));
  });
  return lines;
}
