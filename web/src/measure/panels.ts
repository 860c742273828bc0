/** What the strip of Measure shows: a record before and after its preparation, or a plan. */
import type { LoopDetail, Schemas } from "../api/client";
import { between, OVERLAYS, type Panel } from "../lib/strip";

const STYLES: Record<
  Schemas["Role"],
  { colour: string; weight: number; stepped?: boolean; dash?: number[] }
> = {
  pv: { colour: "--measured", weight: 3 },
  sp: { colour: "--ink", weight: 3, dash: [5, 4], stepped: true },
  op: { colour: "--op", weight: 1.6, stepped: true },
  dv: { colour: "--dv", weight: 1, stepped: true },
  other: { colour: "--over-2", weight: 1 },
};

const short = (tag: string) => tag.split(".").at(-1) ?? tag;

export function recordPanels(
  samples: Schemas["Samples"],
  before: Schemas["Samples"] | null,
  stretches: number[][],
  reading: Schemas["HandReading"] | null,
): Panel[] {
  const list: Panel[] = [];
  const shades = stretches.map(([from, to]) => ({ from: from ?? 0, to: to ?? 0, colour: "--limit" }));
  for (const channel of samples.channels) {
    const { weight, ...style } = STYLES[channel.role];
    const untouched = before?.channels.find((known) => known.tag === channel.tag);
    const isHeld = channel.role === "op" || channel.role === "sp";
    const differs =
      !isHeld && untouched && JSON.stringify(untouched.values) !== JSON.stringify(channel.values);
    const label = short(channel.tag);
    const colour = differs && channel.role === "pv" ? "--pv" : style.colour;
    const curve = { label, times: samples.times, values: channel.values, ...style, colour };
    const curves = [curve];
    if (differs && before) {
      const faint = {
        ...curve,
        label: "before",
        times: before.times,
        values: untouched.values,
        colour: "--measured",
      };
      curves.unshift({ ...faint, ...{ width: 1, faint: true } });
    }
    const onPv = channel.role === "sp" ? list.find((panel) => panel.key === "pv") : undefined;
    if (onPv) {
      onPv.curves.push(...curves);
      continue;
    }
    const isPv = channel.role === "pv" && !list.some((panel) => panel.key === "pv");
    list.push({
      key: isPv ? "pv" : channel.tag,
      title: channel.tag,
      unit: channel.unit,
      curves,
      weight: isPv || channel.role !== "pv" ? weight : 1.5,
      limits: channel.role === "op" ? between(0, 100) : undefined,
      shades,
      ...(isPv && reading ? byHand(reading) : {}),
    });
  }
  return list.sort((a, b) => b.weight - a.weight);
}

/** Another record laid under the curves, from its own start. */
export function withOverlay(
  panels: Panel[],
  row: { name: string },
  other: Schemas["Samples"],
  k: number,
): Panel[] {
  const style = OVERLAYS[k % OVERLAYS.length] as (typeof OVERLAYS)[number];
  return panels.map((panel) => {
    const role = panel.key === "pv" ? "pv" : panel.limits ? "op" : null;
    const channel = other.channels.find((known) => (role ? known.role === role : known.tag === panel.title));
    if (!channel || channel.unit !== panel.unit) return panel;
    const curve = {
      label: row.name,
      times: other.times,
      values: channel.values,
      ...style,
      stepped: role === "op",
    };
    return { ...panel, curves: [...panel.curves, curve] };
  });
}

/** The level of the final value, and the tangent. */
function byHand(reading: Schemas["HandReading"]): Partial<Panel> {
  const [leaves, meets] = reading.tangent as [[number, number], [number, number]];
  return {
    level: { key: "final_value", value: reading.marks.final_value, label: "final value", colour: "--dv" },
    strokes: [
      { from: leaves, to: meets, colour: "--dv" },
      {
        from: [reading.marks.start_of_move, reading.initial_value],
        to: [reading.marks.settled, reading.initial_value],
        colour: "--over-4",
      },
    ],
  };
}

export function planPanels(
  plan: Schemas["ExperimentPlan"],
  { pv, op }: LoopDetail,
  spec: Schemas["ExperimentSpec"],
): Panel[] {
  const { times } = plan;
  const [low, high] = spec.pv_range as [number, number];
  const [lowest, highest] = spec.op_range as [number, number];
  const expected = {
    label: "PV",
    times,
    values: plan.pv,
    half: plan.pv_half_width,
    colour: "--pv",
    width: 2,
  };
  return [
    {
      key: "pv",
      title: `${pv.tag}, expected`,
      unit: pv.span.unit,
      curves: [expected],
      weight: 2.4,
      include: [low, high],
      limits: between(low, high),
    },
    {
      key: "op",
      title: op.tag,
      unit: "%",
      curves: [{ label: "OP", times, values: plan.op, colour: "--op", stepped: true }],
      weight: 1.4,
      include: [lowest, highest],
      limits: between(lowest, highest),
    },
  ];
}
