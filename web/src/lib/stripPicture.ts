/** A strip as a picture of its own: SVG, and PNG drawn from it. */
import { number, timeUnit } from "./format";
import type { Mark, Panel } from "./strip";
import { rangeOf } from "./stripData";
import { colour } from "./theme";
import { linearTicks } from "./xy";

const SIZE = { width: 1200, height: 800 };
const EDGE = { left: 64, right: 110, top: 56, bottom: 34 };
const GAP = 8;

function escaped(text: string): string {
  return text.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll(">", "&gt;");
}

function textAt(x: number, y: number, text: string, rest = ""): string {
  return `<text x="${x.toFixed(1)}" y="${y.toFixed(1)}" ${rest}>${escaped(text)}</text>`;
}

/** The panels with their marks as an SVG document. */
export function stripSvg(panels: Panel[], marks: Mark[], title: string): string {
  const times = panels.flatMap((panel) =>
    panel.curves.flatMap((curve) => [curve.times[0], curve.times.at(-1)]),
  );
  const known = times.filter((time): time is number => time !== undefined);
  const [start, end] = [Math.min(...known), Math.max(...known)];
  const unit = timeUnit(end - start);
  const inner = { width: SIZE.width - EDGE.left - EDGE.right, height: SIZE.height - EDGE.top - EDGE.bottom };
  const weights = panels.reduce((sum, panel) => sum + panel.weight, 0);
  const x = (time: number) => EDGE.left + ((time - start) / (end - start)) * inner.width;
  const ink = colour("--ink");
  const soft = colour("--ink-soft");
  const parts: string[] = [
    `<rect width="100%" height="100%" fill="${colour("--paper")}"/>`,
    textAt(EDGE.left, 22, title, `font-size="16" font-weight="650" fill="${ink}"`),
  ];
  let top = EDGE.top;
  panels.forEach((panel, index) => {
    const height = (inner.height * panel.weight) / weights - GAP;
    const [low, high] = rangeOf(panel, height, [start, end]);
    const y = (value: number) => top + height - ((value - low) / (high - low)) * height;
    const isLast = index === panels.length - 1;
    parts.push(
      `<rect x="${EDGE.left}" y="${top}" width="${inner.width}" height="${height}" fill="${colour("--sheet")}"/>`,
    );
    for (const tick of linearTicks(low, high, Math.max(2, Math.floor(height / 40)))) {
      parts.push(
        `<path d="M${EDGE.left} ${y(tick).toFixed(1)}h${inner.width}" stroke="${colour("--grid")}"/>`,
        textAt(EDGE.left - 6, y(tick) + 4, number(tick, 4), `text-anchor="end" fill="${soft}"`),
      );
    }
    for (const tick of linearTicks(start / unit.seconds, end / unit.seconds, 10)) {
      const at = x(tick * unit.seconds).toFixed(1);
      parts.push(`<path d="M${at} ${top}v${height}" stroke="${colour("--grid")}"/>`);
      if (isLast)
        parts.push(
          textAt(Number(at), top + height + 18, number(tick, 5), `text-anchor="middle" fill="${soft}"`),
        );
    }
    for (const mark of marks) {
      parts.push(
        `<path d="M${x(mark.time).toFixed(1)} ${top}v${height}" stroke="${colour(mark.colour)}" stroke-dasharray="2 3"/>`,
      );
      if (index === 0)
        parts.push(
          textAt(x(mark.time) + 3, top - 5, mark.label, `font-size="12" fill="${colour(mark.colour)}"`),
        );
    }
    parts.push(
      `<svg x="${EDGE.left}" y="${top}" width="${inner.width}" height="${height}" viewBox="${EDGE.left} ${top} ${inner.width} ${height}">`,
    );
    const ends: { label: string; y: number; colour: string }[] = [];
    for (const curve of [...panel.curves].reverse()) {
      let path = "";
      let before: number | null = null;
      curve.values.forEach((value, k) => {
        const time = curve.times[k];
        if (value === null || time === undefined) {
          before = null;
          return;
        }
        const [px, py] = [x(time).toFixed(1), y(value).toFixed(1)];
        path += before === null ? `M${px} ${py}` : curve.stepped ? `H${px}V${py}` : `L${px} ${py}`;
        before = value;
      });
      parts.push(
        `<path d="${path}" fill="none" stroke="${colour(curve.colour)}" stroke-width="${curve.width ?? 1.6}" stroke-linejoin="round"${
          curve.dash?.length ? ` stroke-dasharray="${curve.dash.join(" ")}"` : ""
        }/>`,
      );
      const last = curve.values.at(-1);
      if (curve.label && last !== null && last !== undefined)
        ends.push({ label: curve.label, y: y(last), colour: colour(curve.colour) });
    }
    parts.push("</svg>");
    ends.sort((a, b) => a.y - b.y);
    ends.forEach((label, k) => {
      const above = ends[k - 1];
      if (above) label.y = Math.max(label.y, above.y + 15);
      parts.push(textAt(EDGE.left + inner.width + 6, label.y + 4, label.label, `fill="${label.colour}"`));
    });
    parts.push(
      textAt(EDGE.left + 6, top + 16, `${panel.title}  ${panel.unit}`, `font-weight="600" fill="${ink}"`),
    );
    top += height + GAP;
  });
  parts.push(textAt(SIZE.width - EDGE.right + 6, SIZE.height - 12, unit.symbol, `fill="${soft}"`));
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${SIZE.width}" height="${SIZE.height}" viewBox="0 0 ${SIZE.width} ${SIZE.height}" font-family="sans-serif" font-size="13">${parts.join("")}</svg>`;
}

const COPIED = [
  "fill",
  "stroke",
  "stroke-width",
  "stroke-dasharray",
  "opacity",
  "fill-opacity",
  "font-size",
  "font-weight",
  "font-family",
  "text-anchor",
];

/** The plots of a view one under the other, with what their styles make of them. */
export function plotsSvg(plots: SVGSVGElement[], title: string): string {
  let top = 44;
  let width = 600;
  const parts = plots.map((plot) => {
    const copy = plot.cloneNode(true) as SVGSVGElement;
    const [own, copied] = [plot.querySelectorAll("*"), copy.querySelectorAll("*")];
    copied.forEach((element, k) => {
      const style = getComputedStyle(own[k] as Element);
      for (const name of COPIED) element.setAttribute(name, style.getPropertyValue(name));
      element.removeAttribute("class");
    });
    const box = plot.getBoundingClientRect();
    copy.setAttribute("x", "10");
    copy.setAttribute("y", String(top));
    copy.setAttribute("width", String(box.width));
    copy.setAttribute("height", String(box.height));
    copy.removeAttribute("class");
    const caption = plot.getAttribute("aria-label") ?? "";
    top += box.height + 30;
    width = Math.max(width, box.width + 20);
    return `${textAt(16, top - box.height - 36, caption, `font-weight="600" fill="${colour("--ink")}"`)}${new XMLSerializer().serializeToString(copy)}`;
  });
  const head = `<rect width="100%" height="100%" fill="${colour("--paper")}"/>${textAt(16, 20, title, `font-size="16" font-weight="650" fill="${colour("--ink")}"`)}`;
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${width}" height="${top}" viewBox="0 0 ${width} ${top}" font-family="sans-serif" font-size="13">${head}${parts.join("")}</svg>`;
}

/** An SVG document drawn as PNG, twice as fine. */
export async function pngOf(svg: string): Promise<Blob> {
  const size = /width="([\d.]+)" height="([\d.]+)"/.exec(svg);
  const [across, down] = [Number(size?.[1] ?? SIZE.width), Number(size?.[2] ?? SIZE.height)];
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg)}`;
  await image.decode();
  const canvas = document.createElement("canvas");
  [canvas.width, canvas.height] = [2 * across, 2 * down];
  const context = canvas.getContext("2d");
  if (!context) throw new Error("The browser cannot draw the picture.");
  context.scale(2, 2);
  context.drawImage(image, 0, 0);
  return new Promise((resolve, reject) =>
    canvas.toBlob(
      (blob) => (blob ? resolve(blob) : reject(new Error("The browser cannot write a PNG."))),
      "image/png",
    ),
  );
}

/** Hands a file to the browser to be saved; of its name stays what every file system takes. */
export function saveFile(name: string, ending: string, blob: Blob) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = `${name.replace(/[^\w-]+/g, "_")}.${ending}`;
  link.click();
  window.setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}
