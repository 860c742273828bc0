/** A copy of a document without Vue's proxies. */
export function plain<T>(value: T): T {
  return JSON.parse(JSON.stringify(value)) as T;
}
