import { expect, it } from "vitest";
import { lines } from "./over-time";

const place = (step: number, value: number): [number, number] => [step * 10, 100 - value];

it("a line goes through its values and breaks where there is none", () => {
  expect(lines([1, 2, null, 4, 5], place)).toBe("M0 99L10 98M30 96L40 95");
});

it("a value between two gaps is a dot, and no value is no line", () => {
  expect(lines([null, 3, null], place)).toBe("M10 97h2");
  expect(lines([null, null], place)).toBe("");
  expect(lines([], place)).toBe("");
});
