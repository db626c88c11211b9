import type { components } from "../api/generated/schema";
import { counted, minute, zone } from "../ui/format";

type CloseUpItem = components["schemas"]["CloseUpItem"];

const time = (at: string) => `${minute(at)} ${zone(at)}`;

/** What a close-up has come to, with times as the reader has them: `2 of 5 kept; 3 left, until 2026-12-02 18:00 UTC`. */
export function closeUpInWords(of: CloseUpItem): string {
  const kept = `${of.taken} of ${of.count} kept`;
  if (of.state === "open") return `${kept}; ${Math.max(0, of.count - of.taken)} left, until ${time(of.until)}`;
  if (of.state === "over") return `${kept}; its time ended at ${time(of.until)}`;
  if (of.state === "ended" && of.ended_at)
    return `${kept}; ended by ${of.ended_by ?? "Outcrop, since who asked is gone"} at ${time(of.ended_at)}`;
  return kept;
}

/** For how long a close-up looks at most: words and hours. */
export const LENGTHS = [
  ["1", "an hour"],
  ["24", "a day"],
  ["168", "a week"],
] as const;

/** How many occurrences can be chosen at once. */
export const COUNTS = ["1", "3", "5", "10", "50", "100"].map(
  (n) => [n, counted(Number(n), "occurrence", "occurrences")] as const,
);
