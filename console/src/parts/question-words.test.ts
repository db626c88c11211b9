import { describe, expect, it } from "vitest";
import { type QuestionParts, change, shown, without, written } from "./question-words";

const parts: QuestionParts = {
  measures: ["count", "p95 duration"],
  source: "occurrences",
  by: ["service", "season"],
  where: "uncaught",
  each: "1h",
  order: "p95 duration up",
  top: 5,
  window: "over 7d",
  against: "before",
};

describe("a question's parts", () => {
  it("are put together in the order of the language", () => {
    expect(written(parts)).toBe(
      "count, p95 duration of occurrences by service, season where uncaught each 1h order by p95 duration up top 5 over 7d against before",
    );
    const bare = { ...parts, by: [], where: null, each: null, order: null, top: null, window: null, against: null };
    expect(written(bare)).toBe("count, p95 duration of occurrences");
  });

  it("lose a column with the order by it, and the last group with how many are shown", () => {
    expect(without(parts, "p95 duration").order).toBeNull();
    expect(without(parts, "season")).toMatchObject({ by: ["service"], order: "p95 duration up", top: 5 });
    expect(without({ ...parts, by: ["season"] }, "season").top).toBeNull();
  });
});

describe("values", () => {
  it("have the digits that count", () => {
    expect(shown(1204, "count")).toBe("1,204");
    expect(shown(1204.4, "number")).toBe("1,204");
    expect(shown(12.345, "number")).toBe("12.3");
    expect(shown(null, "number")).toBe("–");
    expect(shown("no tariff", "text")).toBe("no tariff");
  });

  it("say how they changed", () => {
    expect(change(30, 20)).toBe("+50 %");
    expect(change(10, 20)).toBe("−50 %");
    expect(change(3, 0)).toBe("none before");
    expect(change(1122, 2)).toBe("561 times as much");
    expect(change(0, 0)).toBe("");
    expect(change(200, 200)).toBe("as before");
    expect(change("a", 2)).toBe("");
  });
});
