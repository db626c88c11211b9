import { describe, expect, it } from "vitest";
import { linesQuestion } from "./lines-question";

const NOW = Date.parse("2026-11-30T12:00:00Z");

describe("the question of a page of lines", () => {
  it.each([
    [{}, "count of lines by service each 30m top 5 over 24h"],
    [{ since: "1h", service: "fares" }, "count of lines by version each 1m top 5 over 1h"],
    [{ since: "7d", severity: "warn" }, "count of lines by service where severity >= warn each 6h top 5 over 7d"],
    [
      { from: "2026-11-30T11:00:00Z", where: 'berth = "7"', text: 'gate "A"' },
      'count of lines by service where berth = "7" and message contains "gate \\"A\\"" each 1m top 5 from 2026-11-30T11:00:00Z to 2026-11-30T12:00:00.000Z',
    ],
    [{ since: "30d" }, "count of lines by service each 1d top 5 over 30d"],
  ])("says which lines, and steps that can be pointed at: %j", (search, expected) => {
    expect(linesQuestion(search, NOW)).toBe(expected);
  });

  it("is none where no predicate says which lines these are", () => {
    expect(linesQuestion({ template: "00ff" }, NOW)).toBeUndefined();
    expect(linesQuestion({ error: "kobal-tirun" }, NOW)).toBeUndefined();
  });
});
