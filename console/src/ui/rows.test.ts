import { describe, expect, it } from "vitest";
import { columnOf, csv, nextOrder, sorted } from "./rows";

describe("sorting", () => {
  const rows = [{ n: 2 }, { n: null }, { n: 10 }, { n: 2, second: true }];
  const n = (row: { n: number | null }) => row.n;

  it("puts rows without a value last, whichever way", () => {
    expect(sorted(rows, n, false).map(n)).toEqual([2, 2, 10, null]);
    expect(sorted(rows, n, true).map(n)).toEqual([10, 2, 2, null]);
  });

  it("keeps the places of equal rows", () => {
    expect(sorted(rows, n, true)[2]).toHaveProperty("second");
  });

  it("reads numbers within texts as numbers", () => {
    expect(sorted(["2.10.0", "2.9.0", "Fares"], (text) => text, false)).toEqual(["2.9.0", "2.10.0", "Fares"]);
  });

  it("goes from the natural order over its reverse to none", () => {
    const clicks = (isNumber: boolean) => {
      const orders = [];
      let order: string | undefined;
      for (let click = 0; click < 3; click++) orders.push((order = nextOrder(order, "failed", isNumber)));
      return orders;
    };
    expect(clicks(true)).toEqual(["-failed", "failed", undefined]);
    expect(clicks(false)).toEqual(["failed", "-failed", undefined]);
    expect(nextOrder("-failed", "p95", true)).toBe("-p95");
    expect(columnOf("-failed")).toBe("failed");
  });
});

describe("a CSV file", () => {
  it.each([
    ["plain", "plain"],
    ['a "quoted", one', '"a ""quoted"", one"'],
    ["two\nlines", '"two\nlines"'],
    ["=1+1", "'=1+1"],
    ["@sum", "'@sum"],
    ["-x", "'-x"],
    [-3.5, "-3.5"],
    [null, ""],
  ])("writes %j as %j", (value, written) => {
    expect(csv(["name"], [[value]])).toBe(`name\r\n${written}\r\n`);
  });
});
