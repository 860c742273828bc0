/** The clock on the axis of a dated record. Times are those of the record, in its own zone: nothing is shifted. */

/** Steps between ticks that read well on a clock, in s. */
const STEPS = [
  0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10_800,
  21_600, 43_200, 86_400, 172_800, 604_800, 1_209_600, 2_592_000,
];
const DAY = 86_400;

/** Milliseconds since 1970 of a stamp as it stands, as if it were in UTC. */
function base(start: string | null | undefined): number {
  return Date.parse(`${(start ?? "").replace(/Z$/, "")}Z`);
}

/** Times in s from the start at which the clock shows round figures. */
export function clockSplits(
  start: string | null | undefined,
  [from, to]: [number, number],
  width: number,
): number[] {
  const room = Math.max(2, Math.floor(width / 84));
  const step = STEPS.find((size) => (to - from) / size <= room) ?? (to - from) / room;
  const offset = (base(start) / 1000) % Math.max(step, DAY);
  const splits: number[] = [];
  for (let k = Math.ceil((from + offset) / step); k * step - offset <= to; k += 1)
    splits.push(k * step - offset);
  return splits;
}

/** What the clock shows at a time in s from the start; over weeks the date. `span` is how much is in sight. */
export function clockText(start: string | null | undefined, time: number, span: number): string {
  const at = new Date(base(start) + Math.round(time * 1000));
  if (Number.isNaN(at.getTime())) return "";
  const iso = at.toISOString();
  if (span >= 6 * DAY) return iso.slice(5, 10);
  if (span >= 2 * DAY) return `${iso.slice(8, 10)}. ${iso.slice(11, 16)}`;
  if (span === 0) return `${iso.slice(0, 10)} ${iso.slice(11, 19)}`;
  return span > 600 ? iso.slice(11, 16) : span > 10 ? iso.slice(11, 19) : iso.slice(11, 23);
}

/** The day at a time in s from the start. */
export function dayOf(start: string, time: number): string {
  const at = new Date(base(start) + time * 1000);
  return Number.isNaN(at.getTime()) ? "" : at.toISOString().slice(0, 10);
}
