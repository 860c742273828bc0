/** What stands on a strip besides the curves: ground, marks, limits, labels. */
import { rowsThatFit, spread } from "./labels";
import type uPlot from "uplot";
import { number, timeUnit } from "./format";
import { limitAt, piecesOf, type Limit, type Mark, type Panel } from "./strip";
import { colour } from "./theme";

/** Room for the labels at the ends of curves, in pixels. */
const LABEL_WIDTH = 84;

/** The paper and the bands on it. */
export function drawGround(plot: uPlot, panel: Panel) {
  const { ctx, bbox } = plot;
  ctx.fillStyle = colour("--sheet");
  ctx.fillRect(bbox.left, bbox.top, bbox.width, bbox.height);
  for (const band of panel.bands ?? []) {
    const [left, right] = [plot.valToPos(band.from, "x", true), plot.valToPos(band.to, "x", true)];
    const [top, bottom] = [plot.valToPos(band.high, "y", true), plot.valToPos(band.low, "y", true)];
    clipped(plot, () => {
      ctx.fillStyle = colour("--pv-wash");
      ctx.fillRect(left, top, right - left, bottom - top);
    });
  }
}

/** Stretches that are called out, and the bands about curves. */
export function drawUnder(plot: uPlot, panel: Panel) {
  const { ctx, bbox } = plot;
  clipped(plot, () => {
    for (const shade of panel.shades ?? []) {
      const [left, right] = [plot.valToPos(shade.from, "x", true), plot.valToPos(shade.to, "x", true)];
      ctx.globalAlpha = 0.14;
      ctx.fillStyle = colour(shade.colour);
      ctx.fillRect(left, bbox.top, Math.max(2, right - left), bbox.height);
      ctx.globalAlpha = 0.8;
      ctx.fillRect(left, bbox.top, Math.max(2, right - left), 3 * devicePixelRatio);
    }
    for (const curve of panel.curves) {
      const { half, floor, values } = curve;
      if (!half && !floor) continue;
      ctx.globalAlpha = floor ? 0.3 : 0.18;
      ctx.fillStyle = colour(curve.colour);
      ctx.beginPath();
      const sum = (a: number | null | undefined, b: number | null | undefined) =>
        a == null || b == null ? null : a + b;
      const edge = (k: number, value: number | null | undefined) => {
        if (value == null) return;
        ctx.lineTo(plot.valToPos(curve.times[k] as number, "x", true), plot.valToPos(value, "y", true));
      };
      for (let k = 0; k < curve.times.length; k += 1) edge(k, half ? sum(values[k], half[k]) : values[k]);
      for (let k = curve.times.length - 1; k >= 0; k -= 1)
        edge(k, half ? sum(values[k], -(half[k] ?? 0)) : floor?.[k]);
      ctx.fill();
    }
    ctx.globalAlpha = 1;
  });
}

/** Straight lines over the curves. */
function drawStrokes(plot: uPlot, panel: Panel) {
  const { ctx } = plot;
  clipped(plot, () => {
    for (const { from, to, colour: token } of panel.strokes ?? []) {
      ctx.strokeStyle = colour(token);
      ctx.lineWidth = 1.4 * devicePixelRatio;
      ctx.setLineDash([6 * devicePixelRatio, 4 * devicePixelRatio]);
      ctx.beginPath();
      ctx.moveTo(plot.valToPos(from[0], "x", true), plot.valToPos(from[1], "y", true));
      ctx.lineTo(plot.valToPos(to[0], "x", true), plot.valToPos(to[1], "y", true));
      ctx.stroke();
    }
    ctx.setLineDash([]);
  });
}

function clipped(plot: uPlot, draw: () => void) {
  const { ctx, bbox } = plot;
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  draw();
  ctx.restore();
}

/** What a panel needs to know of the strip around it. */
export interface Surroundings {
  marks: Mark[];
  shown: [number, number];
  isFirst: boolean;
  isLast: boolean;
  /** The day at the left edge, where the axis shows the clock. */
  day: string | null;
}

/** Everything that is written on a panel after its curves: marks, limits, labels, the unit of time. */
export function drawNotes(plot: uPlot, panel: Panel, { marks, shown, isFirst, isLast, day }: Surroundings) {
  const { ctx, bbox } = plot;
  const ratio = devicePixelRatio;
  ctx.save();
  ctx.setLineDash([]);
  ctx.globalAlpha = 1;
  ctx.strokeStyle = colour("--rule");
  ctx.lineWidth = ratio;
  ctx.strokeRect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.font = `${12 * ratio}px 'Atkinson Hyperlegible Next Variable', sans-serif`;
  const inOrder = marks.toSorted((a, b) => a.time - b.time);
  // Where the last label ends.
  let taken = 0;
  inOrder.forEach((mark, k) => {
    const x = plot.valToPos(mark.time, "x", true);
    if (x < bbox.left - 1 || x > bbox.left + bbox.width + 1) return;
    if (!mark.panels || mark.panels.includes(panel.key)) {
      ctx.strokeStyle = colour(mark.colour);
      ctx.setLineDash([1.5 * ratio, 3 * ratio]);
      ctx.beginPath();
      ctx.moveTo(x, bbox.top);
      ctx.lineTo(x, bbox.top + bbox.height);
      ctx.stroke();
      ctx.setLineDash([]);
    }
    // What it is called stands above the strip, wherever it belongs.
    if (!isFirst) return;
    ctx.fillStyle = colour(mark.colour);
    const y = bbox.top - 4 * ratio;
    ctx.beginPath();
    ctx.moveTo(x, y);
    ctx.lineTo(x - 4 * ratio, y - 7 * ratio);
    ctx.lineTo(x + 4 * ratio, y - 7 * ratio);
    ctx.fill();
    // Where the next mark is too near, or the edge, the label stands to the left; where it fits nowhere it is shortened.
    const next = inOrder[k + 1];
    const after = (next ? plot.valToPos(next.time, "x", true) : bbox.left + bbox.width + 90 * ratio) - x;
    const before = x - Math.max(taken, 0);
    const needed = ctx.measureText(mark.label).width + 14 * ratio;
    const isRight = needed < after || after >= before;
    const text = shortened(ctx, mark.label, (isRight ? after : before) - 14 * ratio);
    ctx.textAlign = isRight ? "left" : "right";
    ctx.fillText(text, x + (isRight ? 8 : -8) * ratio, y);
    taken = isRight ? x + 8 * ratio + ctx.measureText(text).width : x + 6 * ratio;
  });
  if (panel.limits) drawLimits(plot, panel, panel.limits);
  if (panel.strokes) drawStrokes(plot, panel);
  drawLabels(plot, panel, shown[1]);
  if (isLast) {
    ctx.fillStyle = colour("--ink-soft");
    ctx.font = `${12 * ratio}px 'Atkinson Hyperlegible Next Variable', sans-serif`;
    // At the far right, so that it never stands against the last tick.
    ctx.textAlign = "right";
    const below = bbox.top + bbox.height + 16 * ratio;
    ctx.fillText(
      day ?? timeUnit(shown[1] - shown[0]).symbol,
      bbox.left + bbox.width + LABEL_WIDTH * ratio,
      below,
    );
  }
  ctx.restore();
}

/** As much of a text as fits into a width. */
function shortened(ctx: CanvasRenderingContext2D, text: string, width: number): string {
  if (ctx.measureText(text).width <= width) return text;
  let length = text.length - 1;
  while (length > 0 && ctx.measureText(`${text.slice(0, length)}…`).width > width) length -= 1;
  return length > 2 ? `${text.slice(0, length).trimEnd()}…` : "";
}

/** Limits in sight as hatched edges; where the first curve stands at one, it is marked there. */
function drawLimits(plot: uPlot, panel: Panel, limits: Limit[]) {
  const { ctx, bbox } = plot;
  const ratio = devicePixelRatio;
  const [left, right] = [bbox.left, bbox.left + bbox.width];
  const curve = panel.curves[0];
  clipped(plot, () => {
    ctx.strokeStyle = colour("--limit");
    for (const limit of limits) {
      const pieces = piecesOf(limit).map(({ from, to, value }) => ({
        from: Math.max(from === -Infinity ? left : plot.valToPos(from, "x", true), left),
        to: Math.min(to === Infinity ? right : plot.valToPos(to, "x", true), right),
        y: plot.valToPos(value, "y", true),
      }));
      const away = (limit.side === "high" ? -1 : 1) * 6 * ratio;
      ctx.lineWidth = ratio;
      ctx.globalAlpha = 0.55;
      for (const { from, to, y } of pieces)
        if (y >= bbox.top && y <= bbox.top + bbox.height && to > from)
          hatch(ctx, from, to, y, away, 9 * ratio);
      ctx.globalAlpha = 1;
      const end = pieces.findLast((piece) => piece.to > piece.from);
      if (limit.label && !limit.key && end && end.y > bbox.top && end.y < bbox.top + bbox.height) {
        // Where it is at last, inside of it, as the labels of handles stand.
        ctx.font = `${12 * ratio}px 'Atkinson Hyperlegible Next Variable', sans-serif`;
        ctx.fillStyle = colour("--limit");
        ctx.textAlign = "right";
        // A high limit and a low one that are near each other have their labels beside each other.
        const isHigh = limit.side === "high";
        const aside = isHigh ? 4 * ratio : ctx.measureText(limit.label).width + 20 * ratio;
        ctx.fillText(limit.label, end.to - aside, end.y + (isHigh ? 13 : -5) * ratio);
      }
      if (!curve) continue;
      ctx.lineWidth = 3 * ratio;
      curve.values.forEach((value, k) => {
        const [from, to] = [curve.times[k], curve.times[k + 1]];
        if (value === null || from === undefined || to === undefined) return;
        const held = limitAt(limit, from);
        if (limit.side === "high" ? value < held : value > held) return;
        const y = plot.valToPos(held, "y", true);
        ctx.beginPath();
        ctx.moveTo(plot.valToPos(from, "x", true), y);
        ctx.lineTo(plot.valToPos(to, "x", true), y);
        ctx.stroke();
      });
    }
  });
}

function hatch(
  ctx: CanvasRenderingContext2D,
  from: number,
  to: number,
  y: number,
  away: number,
  step: number,
) {
  ctx.beginPath();
  ctx.moveTo(from, y);
  ctx.lineTo(to, y);
  for (let x = from; x < to; x += step) {
    ctx.moveTo(x, y);
    ctx.lineTo(x + Math.abs(away), y + away);
  }
  ctx.stroke();
}

/** Labels at the ends of the curves, moved apart where they would cover each other; a long name has its value below it. */
function drawLabels(plot: uPlot, panel: Panel, end: number) {
  const { ctx, bbox } = plot;
  const ratio = devicePixelRatio;
  const row = 14 * ratio;
  const width = LABEL_WIDTH * ratio;
  ctx.textAlign = "left";
  ctx.font = `600 ${12 * ratio}px 'Atkinson Hyperlegible Next Variable', sans-serif`;
  const { min, max } = plot.scales.y ?? {};
  const largest = Math.max(Math.abs(min ?? 0), Math.abs(max ?? 0));
  const labels = panel.curves
    .filter((curve) => curve.label)
    .map((curve) => {
      let k = curve.values.length - 1;
      while (k >= 0 && (curve.values[k] === null || (curve.times[k] as number) > end)) k -= 1;
      const last = curve.values[k] ?? null;
      // Beside values of this size it is nothing but rounding.
      const value = last !== null && Math.abs(last) < 1e-9 * largest ? 0 : last;
      const read = curve.amounts?.[k] ?? value;
      return value === null ? null : { curve, value: read, y: plot.valToPos(value, "y", true) };
    })
    .filter((label) => label !== null)
    .sort((a, b) => a.y - b.y);
  const wholes = labels.map(({ curve, value }) => `${curve.label} ${number(value, 3)}`);
  const room = bbox.height / row;
  const rows = rowsThatFit(
    wholes.map((whole) => (ctx.measureText(whole).width <= width ? 1 : 2)),
    room,
  );
  const tops = spread(
    labels.map(({ y }, k) => y - 0.5 * row * (rows[k] as number)),
    rows.map((count) => count * row),
    bbox.top,
    bbox.top + bbox.height + 4 * ratio,
  );
  const x = bbox.left + bbox.width + 6 * ratio;
  labels.forEach(({ curve, value }, k) => {
    ctx.fillStyle = colour(curve.colour);
    const whole = wholes[k] as string;
    const y = (tops[k] as number) + 11 * ratio;
    if (rows[k] === 2) {
      ctx.fillText(shortened(ctx, curve.label, width), x, y);
      ctx.fillText(number(value, 3), x, y + row);
    } else {
      const text = ctx.measureText(whole).width <= width ? whole : curve.label;
      ctx.fillText(shortened(ctx, text, width), x, y);
    }
  });
}
