import { expect, test } from "vitest";
import { settling } from "./settle";

test.each([
  ["version", " 2.4.1 ", { verb: "settle", version: "2.4.1" }],
  ["version", " ", undefined],
  ["commit", "3f2a1c9", { verb: "settle", commit: "3f2a1c9" }],
  ["commit", "3f2a1", undefined],
  ["commit", "the last one", undefined],
  ["now", "", { verb: "settle", now: true }],
] as const)("from a %s, %j", (from, text, action) => expect(settling(from, text)).toEqual(action));
