/** A document as an address that a link can save. */
export function savedAs(document: unknown): string {
  return `data:application/json;charset=utf-8,${encodeURIComponent(JSON.stringify(document, null, 2))}`;
}
