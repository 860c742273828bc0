/** Where two documents differ: the paths of the values that are not the same. */
export function changedPaths(a: unknown, b: unknown, path = ""): string[] {
  if (Object.is(a, b)) return [];
  const isPlain = (value: unknown): value is Record<string, unknown> =>
    typeof value === "object" && value !== null;
  if (!isPlain(a) || !isPlain(b) || Array.isArray(a) !== Array.isArray(b)) return [path];
  const keys = new Set([...Object.keys(a), ...Object.keys(b)]);
  return [...keys].flatMap((key) => changedPaths(a[key], b[key], `${path}/${key}`));
}
