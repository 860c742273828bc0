/** A physical model led along a record: its panels. */
import { describe, expect, it } from "vitest";
import type { Schemas } from "../src/api/client";
import { trackingPanels } from "../src/model/tracking";

const number = (name: string, per_hour: number | null, values: number[], half_widths: number[]) => ({
  name,
  unit: "kW/K",
  text: "",
  per_hour,
  values,
  deviations: half_widths.map((half) => half / 1.96),
  half_widths,
});
const tracked = {
  times: [0, 10, 20],
  numbers: [
    number("liquid_temperature", null, [60, 61, 62], [0.1, 0.1, 0.1]),
    number("loss", 0.02, [0.4, 0.5, 0.6], [0.1, 0.05, 0.05]),
  ],
  outputs: [
    {
      tag: "T.PV",
      unit: "°C",
      noise: 0.15,
      measured: [60, null, 62.5],
      innovations: [0.5, null, -0.5],
      half_widths: [1.96, null, 3.92],
    },
  ],
  may_drift: [],
  test: { samples: 2, share_within: 1, ratio: 1, correlation: 0, doubts: [{ from: 10, to: 20, ratio: 4 }] },
  verdicts: [],
} as unknown as Schemas["Tracked"];

describe("a model on line", () => {
  const panels = trackingPanels(tracked, 100);

  it("shows what drifts first, then what was measured, then states", () => {
    expect(panels.map(({ key }) => key)).toEqual([
      "drift loss",
      "seen T.PV",
      "new T.PV",
      "state liquid_temperature",
    ]);
    expect(panels.map(({ unit }) => unit)).toEqual(["kW/K", "°C", "°C", "kW/K"]);
    expect(panels[0]?.curves[0]?.times).toEqual([100, 110, 120]);
  });

  it("has bands of 95 %, gaps where nothing was measured, and doubts over every panel", () => {
    expect(panels[0]?.curves[0]?.half?.[2]).toBe(0.05);
    expect(panels[1]?.curves[1]?.values).toEqual([59.5, null, 63]);
    expect(panels[2]?.curves[1]?.half).toEqual([1.96, null, 3.92]);
    expect(panels.every(({ shades }) => shades?.[0]?.from === 110 && shades[0].to === 120)).toBe(true);
  });

  it("leaves out a first band that would take the axis from what was learnt", () => {
    const many = Array.from({ length: 40 }, (_, k) => k);
    const wide = {
      ...tracked,
      times: many,
      numbers: [
        number(
          "loss",
          0.02,
          many.map(() => 0.4),
          many.map((k) => (k < 3 ? 50 : 0.01)),
        ),
      ],
      outputs: [],
    };
    const half = trackingPanels(wide, 0)[0]?.curves[0]?.half;
    expect(half?.slice(0, 4)).toEqual([null, null, null, 0.01]);
  });
});
