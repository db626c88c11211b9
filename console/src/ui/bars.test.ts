import { describe, expect, it } from "vitest";
import { boxes, highest, stacked } from "./bars";

const flat = (n: number) => ({ top: 10 - n, height: n });

describe("bars", () => {
  it("lie on those of the layers before", () => {
    expect(stacked([[1, 2], [3, 0], [4, 5]])).toEqual([[0, 0], [1, 2], [4, 2]]); // prettier-ignore
    expect(highest([[1, 2], [3, 0]], 2)).toBe(4); // prettier-ignore
    expect(highest([], 3)).toBe(1);
  });

  it("are one path, with nothing where nothing occurred", () => {
    expect(boxes([2, 0, 1], 10, flat)).toBe("M0 8h8.5v2h-8.5zM20 9h8.5v1h-8.5z");
    expect(boxes([0, 0], 10, flat)).toBe("");
  });

  it("never fill the width, and stand in the middle of a broad step", () => {
    expect(boxes([5], 400, flat)).toBe("M186 5h28v5h-28z");
  });

  it("are a pixel wide at least", () => {
    expect(boxes([5], 0.5, flat)).toContain("h1v5");
  });
});
