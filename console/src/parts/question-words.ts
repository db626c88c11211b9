/** Questions put together again from their parts, and the values of their answers in words. */

import type { components } from "../api/generated/schema";
import { count, minute, percent } from "../ui/format";

export type Answer = components["schemas"]["Answer"];
export type AnswerRow = components["schemas"]["AnswerRow"];
export type QuestionParts = components["schemas"]["QuestionParts"];

/** The question that these parts are of. */
export function written(parts: QuestionParts): string {
  const clauses = [
    ["where ", parts.where],
    ["each ", parts.each],
    ["order by ", parts.order],
    ["top ", parts.top],
    ["", parts.window],
    ["against ", parts.against],
  ] as const;
  const said = clauses.flatMap(([word, text]) => (text == null || text === "" ? [] : [`${word}${text}`]));
  const by = parts.by.length > 0 ? [`by ${parts.by.join(", ")}`] : [];
  return [`${parts.measures.join(", ")} of ${parts.source}`, ...by, ...said].join(" ");
}

/** The same question without a column, and without an order by it. */
export function without(parts: QuestionParts, column: string): QuestionParts {
  const left = (columns: string[]) => columns.filter((each) => each !== column);
  const order = parts.order?.replace(/ up$/, "") === column ? null : parts.order;
  const by = left(parts.by);
  return { ...parts, measures: left(parts.measures), by, order, top: by.length > 0 ? parts.top : null };
}

/** A measure's value as people read it; a dash where no record has one. */
export function shown(value: unknown, kind: string): string {
  if (value === null || value === undefined) return "–";
  if (typeof value === "string") return kind === "time" ? minute(new Date(value)) : value;
  if (typeof value !== "number") return JSON.stringify(value);
  if (kind === "share") return percent(value);
  if (Number.isInteger(value) || Math.abs(value) >= 1_000) return count(Math.round(value));
  return String(Number(value.toPrecision(3)));
}

/** How it changed, in words: `+12 %`, `40 times as much`, `none before`. */
export function change(now: unknown, before: unknown): string {
  if (typeof now !== "number" || typeof before !== "number") return "";
  if (before === 0) return now === 0 ? "" : "none before";
  if (now / before >= 10) return `${count(Math.round(now / before))} times as much`;
  const share = (now / before - 1) * 100;
  if (Math.abs(share) < 0.5) return "as before";
  return `${share > 0 ? "+" : "−"}${count(Math.round(Math.abs(share)))} %`;
}

/** What records of a source are called: one, and many. */
export const RECORDS: Record<string, readonly [one: string, many: string]> = {
  lines: ["log line", "log lines"],
  requests: ["request", "requests"],
  occurrences: ["occurrence", "occurrences"],
};

/** By how much counts of a sample may be off, where that matters. */
export const offBy = (row: AnswerRow) =>
  row.margin != null && row.margin >= 0.005 ? `± ${percent(row.margin)}` : null;

/** Questions to start from. */
export const READY: readonly (readonly [words: string, question: string])[] = [
  [
    "What fails most today, against yesterday?",
    "count, users of occurrences by type, service top 15 against 1d earlier",
  ],
  [
    "What is new or surging, and in which version?",
    "count, users, first of occurrences by service, version, error, title where new or surging or returned top 20",
  ],
  [
    "Whose share of failures moved most against last week?",
    "share, failed, count of requests by service, endpoint order by share top 20 over 7d against 7d earlier",
  ],
  [
    "What has nobody taken?",
    "count, users, last of occurrences by error, service, title where open and not taken order by users top 20 over 7d",
  ],
  ["What fails by which kind, and where?", "count, errors, users of occurrences by kind, service top 20 over 7d"],
  ["Which versions fail over the week?", "count of occurrences by version each 6h top 5 over 7d"],
  ["Which users met more than one error?", "errors, count, last of occurrences by user order by errors top 20 over 7d"],
  ["Which of our files fail most?", "count, errors, latest message of occurrences by service, file top 15 over 7d"],
  ["What fails at one hour or on one host only?", "count, errors of occurrences by hour_of_day, host top 24 over 7d"],
  [
    "Which endpoints fail slowly?",
    "count, p50 duration, p95 duration of occurrences by endpoint order by p95 duration top 15",
  ],
  [
    "Which endpoints fail most, of how many requests?",
    "share, failed, count of requests by service, endpoint order by share top 15 against before",
  ],
  ["Which versions are slower?", "p95 duration, count of requests by service, version top 15"],
  ["Which log lines warn most?", "count, last of lines by service, template where severity >= warn top 20"],
];
