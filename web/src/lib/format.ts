/** A number with a few significant digits, as it is read: no exponent where none is needed, a true minus sign. */
export function number(value: number | null | undefined, digits = 3): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return "–";
  if (value === 0) return "0";
  const size = Math.abs(value);
  const text = size >= 1e7 || size < 1e-4 ? powerOfTen(value, digits) : plainText(value, digits);
  return text.replaceAll("-", "−");
}

/** So many zeros are not counted by eye. */
function powerOfTen(value: number, digits: number): string {
  const [mantissa = "", exponent = "0"] = value.toExponential(digits - 1).split("e");
  const raised = [...String(Number(exponent))].map((sign) => "⁰¹²³⁴⁵⁶⁷⁸⁹"[Number(sign)] ?? "⁻");
  return `${trimmed(mantissa)}·10${raised.join("")}`;
}

/** Digits before the point all stand; what is rounded up to one digit more has no exponent either. */
function plainText(value: number, digits: number): string {
  if (Math.abs(value) >= 10 ** digits) return value.toFixed(0);
  const text = value.toPrecision(digits);
  return text.includes("e") ? Number(text).toFixed(0) : trimmed(text);
}

function trimmed(text: string): string {
  return text.includes(".") ? text.replace(/\.?0+$/, "") : text;
}

/** A number as a person types it, with comma or point; NaN where it is none. */
export function readNumber(text: string): number {
  const plain = text.trim().replaceAll("−", "-").replace(",", ".");
  return plain === "" ? NaN : Number(plain);
}

/** A number as it goes into an entry: what is typed there again gives the same value. */
export function editable(value: number): string {
  return String(Number(value.toPrecision(6)));
}

/** With a sign. */
export function signed(value: number, digits = 2): string {
  return value > 0 ? `+${number(value, digits)}` : number(value, digits);
}

export interface TimeUnit {
  symbol: string;
  seconds: number;
}

/** The unit in which a span of time reads best: of weeks in days, of hours in hours. */
export function timeUnit(seconds: number): TimeUnit {
  if (seconds >= 4 * 86_400) return { symbol: "d", seconds: 86_400 };
  if (seconds >= 7200) return { symbol: "h", seconds: 3600 };
  if (seconds >= 600) return { symbol: "min", seconds: 60 };
  return { symbol: "s", seconds: 1 };
}

export function duration(seconds: number | null | undefined, digits = 3): string {
  if (seconds === null || seconds === undefined) return "–";
  const unit = timeUnit(seconds);
  return `${number(seconds / unit.seconds, digits)} ${unit.symbol}`;
}

/** A duration as it is typed: `90`, `90 s`, `2 h`, `1,5 min`, `3 d`, `36:10` (minutes and seconds), `1:30:00`. NaN where it is none. */
export function readDuration(text: string): number {
  const plain = text.trim().replace("−", "-").replaceAll(",", ".").toLowerCase();
  const parts = plain.split(":");
  if (parts.length === 2 || parts.length === 3) {
    const numbers = parts.map((part) => (/^\d+(\.\d+)?$/.test(part) ? Number(part) : NaN));
    return numbers.reduce((sum, part) => 60 * sum + part, 0);
  }
  const found = /^(-?(?:\d+\.?\d*|\.\d+)(?:e[+-]?\d+)?)\s*(ms|s|sec|min|m|h|d)?$/.exec(plain);
  if (!found) return NaN;
  const seconds = { ms: 1e-3, s: 1, sec: 1, min: 60, m: 60, h: 3600, d: 86_400 }[found[2] ?? "s"] ?? 1;
  return Number((Number(found[1]) * seconds).toPrecision(12));
}

/** A day and time of the calendar, in the place of the reader. */
export function dateText(iso: string): string {
  const date = new Date(iso);
  const two = (value: number) => String(value).padStart(2, "0");
  return `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())} ${two(date.getHours())}:${two(date.getMinutes())}`;
}

/** How long ago something was, in words. */
export function ago(iso: string, now = Date.now()): string {
  const seconds = Math.max(0, (now - new Date(iso).getTime()) / 1000);
  if (seconds < 90) return "just now";
  if (seconds < 5400) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 36 * 3600) return `${Math.round(seconds / 3600)} h ago`;
  return seconds < 30 * 86_400 ? `${Math.round(seconds / 86_400)} d ago` : iso.slice(0, 10);
}

/** A number of the trail as a letter: A, B … Z, AA. */
export function letter(count: number): string {
  let rest = count;
  let text = "";
  while (rest > 0) {
    rest -= 1;
    text = String.fromCharCode(65 + (rest % 26)) + text;
    rest = Math.floor(rest / 26);
  }
  return text || "0";
}

export function plural(count: number, word: string): string {
  return `${count} ${word}${count === 1 ? "" : "s"}`;
}
