/** The question that counts the log lines of a page over time. */

import { narrowed, testOf } from "../../parts/predicate-box";
import type { TrafficSearch } from "./scope";

/** Steps that a chart of lines may have, with their length in milliseconds. */
const STEPS = [
  ["1m", 60_000],
  ["5m", 300_000],
  ["15m", 900_000],
  ["30m", 1_800_000],
  ["1h", 3_600_000],
  ["6h", 21_600_000],
  ["1d", 86_400_000],
] as const;

/** Most steps of the chart: each is wide enough to be pointed at. */
const MOST = 60;

const UNITS: Record<string, number> = { m: 60_000, h: 3_600_000, d: 86_400_000 };

/** How long a window is, in milliseconds; a day where it cannot be told. */
function lengthOf({ since, from, to }: Pick<TrafficSearch, "since" | "from" | "to">, now: number): number {
  if (from) return Math.max(60_000, (to ? Date.parse(to) : now) - Date.parse(from));
  const [, number, unit] = /^(\d+)([mhd])$/.exec(since ?? "24h") ?? [];
  return number !== undefined && unit !== undefined ? Number(number) * (UNITS[unit] ?? 0) : 86_400_000;
}

/** Counts the lines that are listed, by service, or by version of the one service; nothing where no predicate can say
 * which lines these are. */
export function linesQuestion(search: TrafficSearch, now: number): string | undefined {
  if (search.template !== undefined || search.error !== undefined) return undefined;
  let where = search.where;
  if (search.text) where = narrowed(where, testOf("message", search.text).replace(" = ", " contains "));
  if (search.severity) where = narrowed(where, `severity >= ${search.severity}`);
  if (search.trace) where = narrowed(where, testOf("trace", search.trace));
  const length = lengthOf(search, now);
  const [step] = STEPS.find(([, millis]) => length / millis <= MOST) ?? STEPS[STEPS.length - 1] ?? ["1d"];
  const by = search.service === undefined ? "service" : "version";
  const window = search.from
    ? `from ${search.from} to ${search.to ?? new Date(now).toISOString()}`
    : `over ${search.since ?? "24h"}`;
  return `count of lines by ${by}${where ? ` where ${where}` : ""} each ${step} top 5 ${window}`;
}
