/** From the panels of a strip to what the chart library draws. */
import uPlot from "uplot";
import type { Curve, Panel } from "./strip";
import { colour } from "./theme";

/** The curves of a panel on one axis of times, as the chart library wants them. */
export function table(panel: Panel): uPlot.AlignedData {
  const tables = panel.curves.map((curve) => [curve.times, curve.values] as uPlot.AlignedData);
  if (tables.length === 0)
    return [
      [0, 1],
      [null, null],
    ];
  const first = panel.curves[0]?.times;
  if (panel.curves.every((curve) => curve.times === first)) {
    return [first, ...panel.curves.map((curve) => curve.values)] as uPlot.AlignedData;
  }
  return uPlot.join(tables) as uPlot.AlignedData;
}

/** Room at the top for the title, at the bottom for the eye, in pixels. */
const ROOM = { top: 24, bottom: 8 };

/** The range of the values in the shown stretch of time, with room for the title. */
export function rangeOf(panel: Panel, height: number, shown: [number, number]): [number, number] {
  let [low, high] = [Infinity, -Infinity];
  const take = (value: number) => {
    low = Math.min(low, value);
    high = Math.max(high, value);
  };
  for (const curve of panel.curves) {
    curve.values.forEach((value, k) => {
      const time = curve.times[k] as number;
      if (value === null || time < shown[0] || time > shown[1]) return;
      take(value);
      const half = curve.half?.[k];
      if (half !== null && half !== undefined) {
        take(value - half);
        take(value + half);
      }
    });
    if (curve.fillTo !== undefined) take(curve.fillTo);
  }
  panel.include?.forEach(take);
  if (panel.level) take(panel.level.value);
  if (low > high) return [0, 1];
  if (high === low) {
    const room = Math.max(0.5, 0.02 * Math.abs(high));
    [low, high] = [low - room, high + room];
  }
  const perPixel = (high - low) / Math.max(10, height - ROOM.top - ROOM.bottom);
  return [low - ROOM.bottom * perPixel, high + ROOM.top * perPixel];
}

/** How a curve is drawn. */
export function series(curve: Curve): uPlot.Series {
  return {
    label: curve.label,
    stroke: () => colour(curve.colour),
    width: curve.width ?? 1.6,
    dash: curve.dash,
    fill: curve.fillTo === undefined ? undefined : () => `${colour(curve.colour)}38`,
    fillTo: curve.fillTo,
    paths: curve.stepped ? uPlot.paths.stepped?.({ align: 1 }) : uPlot.paths.linear?.(),
    points: { show: false },
    alpha: curve.faint ? 0.75 : 1,
  };
}

/** The value of a curve at a time: the last one at or before it. */
export function valueAt(curve: Curve, time: number): number | null {
  let [low, high] = [0, curve.times.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((curve.times[middle] as number) <= time) low = middle + 1;
    else high = middle;
  }
  return (curve.amounts ?? curve.values)[low - 1] ?? null;
}
