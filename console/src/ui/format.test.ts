import { describe, expect, it, test } from "vitest";
import {
  ago,
  againstInWords,
  count,
  counted,
  duration,
  exact,
  percent,
  tick,
  untilInWords,
  windowInWords,
} from "./format";

const NOW = Date.parse("2026-11-29T12:00:00Z");
const before = (seconds: number) => new Date(NOW - seconds * 1_000).toISOString();

describe("numbers", () => {
  test.each([
    [0, "0 %"],
    [0.00004, "0.00 %"],
    [0.0004, "0.04 %"],
    [0.004, "0.4 %"],
    [0.0996, "10.0 %"],
    [0.27, "27 %"],
    [1, "100 %"],
  ])("a share of %d is %s", (share, said) => expect(percent(share)).toBe(said));

  it("counts what there is one of and many of", () => {
    expect(counted(1, "error", "errors")).toBe("1 error");
    expect(counted(1_234, "error", "errors")).toBe("1,234 errors");
    expect(count(0)).toBe("0");
  });

  test.each([
    [0, "0 µs"],
    [0.34, "340 µs"],
    [1, "1.0 ms"],
    [9.94, "9.9 ms"],
    [12.4, "12 ms"],
    [1_900, "1.9 s"],
    [59_999, "60 s"],
    [90_000, "1.5 min"],
  ])("%d ms last %s", (millis, said) => expect(duration(millis)).toBe(said));
});

describe("times", () => {
  test.each([
    [-30, "now"],
    [59, "now"],
    [60, "1 min"],
    [7_199, "119 min"],
    [7_200, "2 h"],
    [172_799, "47 h"],
    [172_800, "2 d"],
  ])("%d s before is %s", (seconds, said) => expect(ago(before(seconds), NOW)).toBe(said));

  it("says the exact time to the second, in UTC", () => {
    expect(exact("2026-11-29T12:00:00.123456Z")).toBe("2026-11-29 12:00:00 UTC");
    expect(exact("2026-11-29T13:00:00+01:00")).toBe("2026-11-29 12:00:00 UTC");
  });

  it("says days on a long axis and times of day on a short one", () => {
    const at = new Date(NOW);
    expect(tick(at, 3_600_000)).toBe("12:00");
    expect(tick(at, 7 * 86_400_000)).toBe("11-29");
  });

  test.each([
    [{}, "the last 24 h"],
    [{ since: "7d" }, "the last 7 d"],
    [{ from: "2026-11-29T10:00:00Z" }, "2026-11-29 10:00 to now UTC"],
    [{ from: "2026-11-29T10:00:00Z", to: "2026-11-29T11:30:00Z" }, "2026-11-29 10:00 to 11:30 UTC"],
    [{ from: "2026-11-28T22:00:00Z", to: "2026-11-29T01:30:00Z" }, "2026-11-28 22:00 to 2026-11-29 01:30 UTC"],
  ])("a window %j is %s", (scope, said) => expect(windowInWords(scope)).toBe(said));

  test.each([
    ["before", "the time before"],
    ["7d", "a week earlier"],
    ["3d", "3d earlier"],
    ["2026-11-20T00:00:00Z/2026-11-21T00:00:00Z", "11-20 00:00 to 11-21 00:00"],
  ])("a period %s is %s", (against, said) => expect(againstInWords(against)).toBe(said));

  test.each([
    ["2026-11-29T14:30:00Z", "2026-11-29 14:30 UTC"],
    ["users > 50", "users > 50"],
  ])("quiet until %s is said as %s", (until, said) => expect(untilInWords(until)).toBe(said));
});
