/** Numbers and times as people read them. */

const grouped = new Intl.NumberFormat("en-GB");

export const count = (n: number) => grouped.format(n);

export const counted = (n: number, one: string, many: string) => `${count(n)} ${n === 1 ? one : many}`;

export function percent(share: number): string {
  if (share === 0) return "0 %";
  const value = share * 100;
  return `${value >= 10 ? value.toFixed(0) : value >= 0.1 ? value.toFixed(1) : value.toFixed(2)} %`;
}

export function ago(at: string, now = Date.now()): string {
  const minutes = Math.floor((now - Date.parse(at)) / 60_000);
  if (minutes <= 0) return "now";
  if (minutes < 120) return `${minutes} min`;
  if (minutes < 2_880) return `${Math.floor(minutes / 60)} h`;
  return `${Math.floor(minutes / 1_440)} d`;
}

/** `ago` within a sentence: "26 min ago", "just now". */
export const agoInWords = (at: string, now = Date.now()) =>
  ago(at, now) === "now" ? "just now" : `${ago(at, now)} ago`;

export const exact = (at: string | number | Date) =>
  new Date(at)
    .toISOString()
    .replace("T", " ")
    .replace(/\.\d+Z$/, "Z");

const time = (at: Date) => at.toISOString().slice(11, 16);

/** A tick of a time axis: the time of day, or the day where steps are long. */
export const tick = (at: Date, span: number) => (span > 2 * 86_400_000 ? at.toISOString().slice(5, 10) : time(at));

/** A window in words: "the last 24 h", or its borders. */
export function windowInWords(scope: {
  since?: string | undefined;
  from?: string | undefined;
  to?: string | undefined;
}): string {
  if (scope.from) {
    const from = exact(scope.from);
    const to = scope.to && exact(scope.to);
    const isOneDay = to?.slice(0, 10) === from.slice(0, 10);
    return `${from.slice(0, 16)} to ${to ? to.slice(isOneDay ? 11 : 0, 16) : "now"} UTC`;
  }
  return `the last ${(scope.since ?? "24h").replace(/^(\d+)([a-z])$/, "$1 $2")}`;
}

/** Milliseconds in words: `1.9 s`, `12 ms`, `340 µs`. */
export function duration(millis: number): string {
  const [value, unit] =
    millis >= 60_000
      ? [millis / 60_000, "min"]
      : millis >= 1_000
        ? [millis / 1_000, "s"]
        : millis >= 1
          ? [millis, "ms"]
          : [millis * 1_000, "µs"];
  return `${value >= 9.95 || value === 0 ? Math.round(value) : value.toFixed(1)} ${unit}`;
}

/** The period that a window is held against, in words. */
export function againstInWords(against: string): string {
  const known: Record<string, string> = {
    "": "against …",
    before: "the time before",
    "1d": "a day earlier",
    "7d": "a week earlier",
  };
  if (known[against] !== undefined) return known[against];
  const [from, to] = against.split("/");
  return to ? `${exact(from as string).slice(5, 16)} to ${exact(to).slice(5, 16)}` : `${against} earlier`;
}

/** The condition until which an error is quiet: a time as people read it, or a predicate as it stands. */
export const untilInWords = (until: string) =>
  /^\d{4}-\d\d-\d\dT/.test(until) ? `${exact(until).slice(0, 16)} UTC` : until;
