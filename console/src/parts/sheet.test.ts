import { describe, expect, it } from "vitest";
import { type SheetDocument, moved, placed, read, without } from "./sheet";

const sheet = (...titles: string[]): SheetDocument => ({
  parts: titles.map((title) => ({ title, text: "", width: "half" })),
});
const titles = (document: SheetDocument) => document.parts.map(({ title }) => title).join("");

describe("a sheet that is being arranged", () => {
  it.each([
    [0, 1, "bac"],
    [2, -1, "acb"],
    [0, -1, "abc"],
    [2, 5, "abc"],
    [1, 9, "acb"],
  ])("moves part %i by %i", (at, by, expected) => expect(titles(moved(sheet("a", "b", "c"), at, by))).toBe(expected));

  it("leaves the document as it was, so that a change can be undone", () => {
    const before = sheet("a", "b");
    moved(before, 0, 1);
    without(before, 0);
    placed(before, 0, { title: "z", text: "", width: "half" });
    expect(titles(before)).toBe("ab");
  });

  it("puts a part in the place of another, or behind all", () => {
    const part = { title: "z", text: "", width: "half" } as const;
    expect(titles(placed(sheet("a", "b"), 0, part))).toBe("zb");
    expect(titles(placed(sheet("a", "b"), 9, part))).toBe("abz");
    expect(titles(without(sheet("a", "b"), 0))).toBe("b");
  });

  it.each(["[]", "null", "{}", '{"parts": 3}'])("refuses %s as a sheet", (text) => {
    expect(() => read(text)).toThrow("no sheet");
  });

  it("reads what was exported", () => expect(read(JSON.stringify(sheet("a")))).toEqual(sheet("a")));
});
