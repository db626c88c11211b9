import { expect, it } from "vitest";
import { lines, usualGap } from "./over-time";

const place = (step: number, value: number): [number, number] => [step * 10, 100 - value];

it("a line goes through its values and breaks where there is none", () => {
  expect(lines([1, 2, null, 4, 5], place)).toBe("M0 99L10 98M30 96L40 95");
});

it("a value between two gaps is a dot, and no value is no line", () => {
  expect(lines([null, 3, null], place)).toBe("M10 97h2");
  expect(lines([null, null], place)).toBe("");
  expect(lines([], place)).toBe("");
});

it("a line crosses the steps in which a sender says nothing as a rule", () => {
  const sampled = [1, null, null, 2, null, null, 3, null, null, null, null, null, 4];
  expect(usualGap(sampled)).toBe(3);
  expect(lines(sampled, place, 4)).toBe("M0 99L30 98L60 97M120 96h2");
  expect([usualGap([]), usualGap([null, 5]), usualGap([1, 2, 3])]).toEqual([1, 1, 1]);
});
