import type { HandlingAction } from "../api/client";

/** From what on an error that is settled must not occur. */
export type From = "version" | "commit" | "now";

export const FROM: readonly [From, string][] = [
  ["version", "in version"],
  ["commit", "by commit"],
  ["now", "from now on"],
];

/** What settles it, where what was typed says enough. */
export function settling(from: From, text: string): HandlingAction | undefined {
  const typed = text.trim();
  if (from === "now") return { verb: "settle", now: true };
  if (from === "version") return typed === "" ? undefined : { verb: "settle", version: typed };
  return /^[0-9a-f]{7,64}$/i.test(typed) ? { verb: "settle", commit: typed } : undefined;
}
