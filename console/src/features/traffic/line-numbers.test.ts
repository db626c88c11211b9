import { describe, expect, it } from "vitest";
import { numberQuestion, numbersOf } from "./line-numbers";

describe("the numbers of a template", () => {
  it.each([
    ["nothing in it", []],
    ["connection drained after {duration}, {n} requests dropped", ["after {duration}", "{n} requests"]],
    ["{n}", ["{n}"]],
    ["depth={n}/{n} of {path}", ["depth={n}/", "/{n} of"]],
    ["berth {text} waits {n}; {duration} left", ["waits {n}", "{duration} left"]],
  ])("are told by the words around them: %s", (template, words) => {
    expect(numbersOf(template).map((number) => number.words)).toEqual(words);
  });

  it("are counted by their place, durations by a percentile", () => {
    const template = 'took {duration} of "it", {n} left';
    const [took, left] = numbersOf(template);
    expect(took && numberQuestion(template, "fares", took)).toBe(
      'p95 number_1 of lines where service = "fares" and template = "took {duration} of \\"it\\", {n} left" each 1h',
    );
    const [waited, metres] = numbersOf("waited {n} ms on {n} m of deck");
    expect([waited?.isDuration, metres?.isDuration]).toEqual([true, false]);
    expect(left && numberQuestion(template, "fares", left)).toContain("mean number_2 of lines");
  });
});
