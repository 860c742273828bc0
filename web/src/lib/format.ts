/** A number with a few significant digits, as it is read: no exponent where none is needed, a true minus sign. */
export function number(value: number | null | undefined, digits = 3): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return "–";
  if (value === 0) return "0";
  const size = Math.abs(value);
  const text =
    size >= 1e7 || size < 1e-4
      ? value.toExponential(digits - 1)
      : size >= 10 ** digits
        ? value.toFixed(0)
        : trimmed(value.toPrecision(digits));
  return text.replace("-", "−");
}

function trimmed(text: string): string {
  return text.includes(".") ? text.replace(/\.?0+$/, "") : text;
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

/** The unit in which a span of time reads best. */
export function timeUnit(seconds: number): TimeUnit {
  if (seconds >= 7200) return { symbol: "h", seconds: 3600 };
  if (seconds >= 400) return { symbol: "min", seconds: 60 };
  return { symbol: "s", seconds: 1 };
}

export function duration(seconds: number | null | undefined, digits = 3): string {
  if (seconds === null || seconds === undefined) return "–";
  const unit = timeUnit(seconds);
  return `${number(seconds / unit.seconds, digits)} ${unit.symbol}`;
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
