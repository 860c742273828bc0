/** A physical model led along a record, as panels of a strip. */
import type { Schemas } from "../api/client";
import type { Curve, Panel } from "../lib/strip";
import { inWords } from "../lib/structures";

type Tracked = Schemas["Tracked"];

/** What drifts, then states that no sensor shows, then what was measured and expected, and what was new in it. */
export function trackingPanels(tracked: Tracked, from: number): Panel[] {
  const times = tracked.times.map((time) => from + time);
  const shades = tracked.test.doubts.map((doubt) => ({
    from: from + doubt.from,
    to: from + doubt.to,
    colour: "--limit",
  }));
  const drifts = tracked.numbers.filter((number) => number.per_hour != null);
  const states = tracked.numbers.filter((number) => number.per_hour == null);
  const panel = (number: Tracked["numbers"][number], weight: number): Panel => {
    const curve: Curve = { label: "estimate", times, values: number.values, colour: "--pv", width: 2 };
    return {
      key: `${number.per_hour == null ? "state" : "drift"} ${number.name}`,
      title: inWords(number.name),
      unit: number.unit,
      curves: [{ ...curve, half: inSight(number.values, number.half_widths) }],
      weight,
      shades,
    };
  };
  return [
    ...drifts.map((number) => panel(number, 2)),
    ...tracked.outputs.flatMap((output) => outputPanels(output, times, shades)),
    ...states.map((number) => panel(number, 1)),
  ];
}

function outputPanels(
  output: Tracked["outputs"][number],
  times: number[],
  shades: NonNullable<Panel["shades"]>,
): Panel[] {
  const expected = output.measured.map((value, k) => {
    const news = output.innovations[k];
    return value == null || news == null ? null : value - news;
  });
  const band = inSight(output.innovations, output.half_widths);
  return [
    {
      key: `seen ${output.tag}`,
      title: `${output.tag}, measured and expected`,
      unit: output.unit,
      curves: [
        { label: "measured", times, values: output.measured, colour: "--measured", width: 1 },
        { label: "expected", times, values: expected, colour: "--op", dash: [5, 3], width: 1.4 },
      ],
      weight: 1.4,
      shades,
    },
    {
      key: `new ${output.tag}`,
      title: "measured − expected, and what had to be expected of it",
      unit: output.unit,
      curves: [
        { label: "new", times, values: output.innovations, colour: "--measured", width: 1 },
        { label: "", times, values: times.map(() => 0), half: band, colour: "--measured", faint: true },
      ],
      weight: 1,
      include: [0],
      shades,
    },
  ];
}

/** A band that is wider than what was found later on tells nothing and takes the axis: it is left out at the beginning. */
function inSight(values: (number | null)[], half: (number | null)[]): (number | null)[] {
  const late = Math.floor(values.length / 10);
  const known = (list: (number | null)[]) =>
    list.slice(late).filter((value): value is number => value !== null);
  const settled = known(values);
  const reach = 1.5 * Math.max(...known(half), Math.max(...settled) - Math.min(...settled));
  return half.map((width, k) => (k < late && width !== null && width > reach ? null : width));
}
