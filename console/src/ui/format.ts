/** Numbers and times as people read them. */

import { preferred } from "./preferences";

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

/** A moment in the time zone that is preferred, by its parts: `2026-11-29`, `14:30:05`, `UTC` or `GMT+1`. */
function parts(at: string | number | Date): { day: string; clock: string; zone: string } {
  const isLocal = preferred().times === "local";
  const [day = "", clock = ""] = (isLocal ? LOCAL : UTC).format(new Date(at)).split(" ");
  if (!isLocal) return { day, clock, zone: "UTC" };
  const zone = ZONE.formatToParts(new Date(at)).find(({ type }) => type === "timeZoneName")?.value;
  return { day, clock, zone: zone ?? "local" };
}

/** Swedish writes times as ISO 8601 does, but for a blank. */
const LOCAL = new Intl.DateTimeFormat("sv-SE", { dateStyle: "short", timeStyle: "medium" });
const UTC = new Intl.DateTimeFormat("sv-SE", { dateStyle: "short", timeStyle: "medium", timeZone: "UTC" });
const ZONE = new Intl.DateTimeFormat("en-GB", { timeZoneName: "short" });

/** A moment to the second: `2026-11-29 14:30:05 UTC`. */
export function exact(at: string | number | Date): string {
  const { day, clock, zone } = parts(at);
  return `${day} ${clock} ${zone}`;
}

/** A moment to the minute, without its zone: `2026-11-29 14:30`. */
export function minute(at: string | number | Date): string {
  const { day, clock } = parts(at);
  return `${day} ${clock.slice(0, 5)}`;
}

/** A time of day to the second, with its zone: `14:30:05 UTC`. */
export function clock(at: string | number | Date): string {
  const { clock, zone } = parts(at);
  return `${clock} ${zone}`;
}

/** The time zone that times are shown in, as it is now. */
export const zone = (at: string | number | Date = Date.now()) => parts(at).zone;

/** A tick of a time axis: the time of day, or the day where steps are long. */
export const tick = (at: Date, span: number) => minute(at).slice(...(span > 2 * 86_400_000 ? [5, 10] : [11, 16]));

/** A window in words: "the last 24 h", or its borders. */
export function windowInWords(scope: {
  since?: string | undefined;
  from?: string | undefined;
  to?: string | undefined;
}): string {
  if (scope.from) {
    const from = minute(scope.from);
    const to = scope.to && minute(scope.to);
    const isOneDay = to?.slice(0, 10) === from.slice(0, 10);
    return `${from} to ${to ? to.slice(isOneDay ? 11 : 0) : "now"} ${zone(scope.from)}`;
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
  return to ? `${minute(from as string).slice(5)} to ${minute(to).slice(5)}` : `${against} earlier`;
}

/** The condition until which an error is quiet: a time as people read it, or a predicate as it stands. */
export const untilInWords = (until: string) =>
  /^\d{4}-\d\d-\d\dT/.test(until) ? `${minute(until)} ${zone(until)}` : until;
