/** What is drawn of disturbance rejection over frequency. */
import type { Schemas } from "../api/client";
import type { Line } from "../lib/xy";

type Rejection = Schemas["Rejection"];

const COLOURS = ["--pv", "--op", "--dv", "--ink"];
const DASHES: (number[] | undefined)[] = [undefined, [7, 3], [2, 3], [9, 3, 2, 3]];

/** How a candidate is drawn, by its place: colours come again with other dashes. */
function style(place: number): Pick<Line, "colour" | "dash"> {
  const turn = Math.floor(place / COLOURS.length);
  return {
    colour: COLOURS[place % COLOURS.length] ?? "--pv",
    dash: DASHES[(place + turn) % DASHES.length],
  };
}

/** |S| of every candidate that has one, and the line of no effect. */
export function sensitivities(found: Rejection): Line[] {
  const x = found.arrived?.omega ?? [];
  const own = found.candidates.flatMap((one, place) =>
    one.sensitivity.length ? [{ x, y: one.sensitivity, label: one.name, width: 1.6, ...style(place) }] : [],
  );
  const [first, last] = [x[0], x.at(-1)];
  if (first === undefined || last === undefined) return own;
  return [{ x: [first, last], y: [1, 1], colour: "--ink-soft", width: 1 }, ...own];
}

/** The variance per decade as it came in, and what each candidate leaves of it. */
export function leftOver(found: Rejection): Line[] {
  const arrived = found.arrived;
  if (!arrived) return [];
  const { omega: x, variance_per_decade: came } = arrived;
  const own = found.candidates.flatMap((one, place) => {
    if (!one.sensitivity.length) return [];
    const y = came.map((value, k) => value * (one.sensitivity[k] ?? 1) ** 2);
    return [{ x, y, label: one.name, width: 1.6, ...style(place) }];
  });
  return [{ x, y: came, label: "came in", colour: "--ink-soft", width: 2.5 }, ...own];
}
