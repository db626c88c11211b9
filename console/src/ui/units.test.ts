import { describe, expect, it } from "vitest";
import { measured, ofMetric, short } from "./units";

describe("numbers of metrics", () => {
  it.each([
    [0, "0"],
    [0.0834, "0.0834"],
    [999, "999"],
    [1_000, "1 k"],
    [188_400_000, "188 M"],
    [-2_500, "−2.5 k"],
    [9e15, "9000 T"],
  ])("writes %d as %s", (value, expected) => expect(short(value)).toBe(expected));

  it.each([
    [188_400_000, "By", "188 MB"],
    [12, "By", "12 B"],
    [2, "MiBy", "2.1 MB"],
    [5_000, "By/s", "5 kB/s"],
    [0.25, "s", "250 ms"],
    [1_500, "ms", "1.5 s"],
    [12, "{message}", "12"],
    [12.5, "%", "12.5 %"],
    [null, "By", "–"],
  ])("writes %s of %s as %s", (value, unit, expected) => expect(measured(value, unit)).toBe(expected));

  it("writes a share as one", () => {
    expect(ofMetric("process.cpu.utilization", "1")(0.254)).toBe("25 %");
    expect(ofMetric("queue.length", "1")(0.254)).toBe("0.254");
  });
});
