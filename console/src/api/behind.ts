import type { Middleware } from "openapi-fetch";
import { useSyncExternalStore } from "react";

/** How long after a change what is read must be the newest, in milliseconds: a standby knows it by then. */
const NEWEST_FOR = 10_000;

let changedAt = -Infinity;
let behind: string | null = null;
const listeners = new Set<() => void>();

/** Asks for the newest after a change, and keeps how far behind the last answer was. */
export const behindMiddleware: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET") changedAt = performance.now();
    else if (performance.now() - changedAt < NEWEST_FOR) request.headers.set("cache-control", "no-cache");
    return request;
  },
  onResponse({ request, response }) {
    if (request.method !== "GET" || !response.ok) return;
    const now = response.headers.get("outcrop-behind");
    if (now === behind) return;
    behind = now;
    for (const listener of listeners) listener();
  },
};

/** How far behind what is shown may be, in words; null where it is the newest. */
export const behindInWords = (behind: string | null) =>
  behind === null
    ? null
    : /^\d+$/.test(behind)
      ? `A standby answers that is up to ${behind} s behind: the newest may be missing.`
      : "A standby answers: the newest may be missing.";

/** The same, kept up to date. */
export function useBehind() {
  return behindInWords(
    useSyncExternalStore(
      (listener) => {
        listeners.add(listener);
        return () => listeners.delete(listener);
      },
      () => behind,
    ),
  );
}
