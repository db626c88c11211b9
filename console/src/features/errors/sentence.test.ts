import { beforeEach, describe, expect, it, vi } from "vitest";
import type { ErrorItem } from "../../api/client";
import { pageSentence, rowSentence } from "./sentence";

beforeEach(() => {
  vi.useFakeTimers({ now: Date.parse("2026-11-29T12:00:00Z") });
});

const OLD = "2026-11-20T12:00:00Z";
const YOUNG = "2026-11-29T11:34:00Z";

/** An error of fares, known for long and uncaught, but for what is given. */
const error = (given: Partial<ErrorItem>): ErrorItem =>
  ({
    service: "fares",
    type: "decimal.DivisionByZero",
    title: "decimal.DivisionByZero: division by zero",
    uncaught: true,
    first_version: "2.4.0",
    first_seen: OLD,
    came_with_version: false,
    request_share: null,
    strip: null,
    ...given,
  }) as ErrorItem;

const withLayer = (occurrences: number, requests: number) =>
  error({
    first_seen: YOUNG,
    came_with_version: true,
    strip: {
      layers: [{ version: "2.4.0", occurrences: [occurrences], requests: [requests] }],
    } as unknown as ErrorItem["strip"],
  });

describe("a row", () => {
  it("leads with the share of the version that the error came with", () => {
    expect(rowSentence(withLayer(30, 120))).toBe(
      "25 % of the requests to fares 2.4.0 fail with DivisionByZero, since 26 min ago",
    );
  });

  it("never says more than all requests fail", () => {
    expect(rowSentence(withLayer(300, 120))).toContain("100 % of the requests");
  });

  it("says that it is caught, and its title where it has no type", () => {
    expect(rowSentence(error({ type: "", title: "no tide table for Kirkwall", uncaught: false }))).toBe(
      "no tide table for Kirkwall, caught",
    );
  });

  it("gives no share where there are no requests", () => {
    expect(rowSentence(withLayer(3, 0))).toBe("DivisionByZero, came with fares 2.4.0 26 min ago");
  });
});

describe("the page", () => {
  it("answers first with what a deploy brought, and counts the other new errors", () => {
    const { lead, rest } = pageSentence([error({}), withLayer(30, 120), error({ first_seen: YOUNG })], 3);
    expect(lead).toBe("25 % of the requests to fares 2.4.0 fail");
    expect(rest).toBe(" since its deploy 26 min ago: DivisionByZero. 1 other error is new in the last 24 hours.");
  });

  it("says that no error is new", () => {
    const { lead, rest } = pageSentence([error({ request_share: 0.009 })], 12);
    expect(lead + rest).toBe(
      "0.9 % of the requests to fares fail with DivisionByZero. No error is new in the last 24 hours; 12 are known from before.",
    );
  });

  it("says that nothing fails", () => {
    expect(pageSentence([], 0)).toEqual({ lead: "", rest: "Nothing fails." });
  });
});
