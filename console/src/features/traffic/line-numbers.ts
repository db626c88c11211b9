/** The numbers of a template of log lines, and the questions that count them. */

import { testOf } from "../../parts/predicate-box";

/** A number of a template. */
export type LineNumber = {
  /** Its place among the numbers, counted from 1. */
  place: number;
  /** It with the words around it, by which people know it. */
  words: string;
  isDuration: boolean;
};

/** A unit of time behind a number, as a word of its own. */
const UNIT = /^ (?:ms|us|ns|s|secs?|seconds|mins?|minutes|hours|milliseconds)\b/;

/** The numbers of a template in their order, each with the word before and after it; 8 at most. */
export function numbersOf(template: string): LineNumber[] {
  return [...template.matchAll(/\{n\}|\{duration\}/g)].slice(0, 8).map((found, at) => {
    const [before] = /(?:[^\s{}]+\s+)?[^\s{}]*$/.exec(template.slice(0, found.index)) ?? [""];
    const [after] = /^[^\s{}]*(?:\s+[^\s{}]+)?/.exec(template.slice(found.index + found[0].length)) ?? [""];
    return {
      place: at + 1,
      words: `${before}${found[0]}${after}`.replace(/^[\s,;:.]+|[,;:.]$/g, "").trim(),
      isDuration: found[0] === "{duration}" || UNIT.test(template.slice(found.index + found[0].length)),
    };
  });
}

/** Asks for a number of a service's lines over time: durations by their 95th percentile, others by their mean. */
export function numberQuestion(template: string, service: string, number: LineNumber): string {
  const measure = number.isDuration ? "p95" : "mean";
  const where = `${testOf("service", service)} and ${testOf("template", template)}`;
  return `${measure} number_${String(number.place)} of lines where ${where} each 1h`;
}
