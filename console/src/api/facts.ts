import type { ErrorItem, Timeline } from "./client";

/** How long ago an error must have begun at most to be called young, in milliseconds. */
const YOUNG = 24 * 3_600_000;

export const isYoung = (error: ErrorItem) => Date.now() - Date.parse(error.first_seen) < YOUNG;

/** Of a young error that came with a version: the share of that version's own requests. */
export function layerShare(error: ErrorItem, timeline: Timeline | null | undefined = error.strip): number | null {
  const layer = timeline?.layers.find((layer) => layer.version === error.first_version);
  if (!layer || !error.came_with_version || !isYoung(error)) return null;
  const sum = (values: number[]) => values.reduce((total, n) => total + n, 0);
  const requests = sum(layer.requests);
  return requests === 0 ? null : Math.min(1, sum(layer.occurrences) / requests);
}
