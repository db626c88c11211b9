import { expect, test } from "vitest";
import { isPredicate } from "./predicate-box";

test.each([
  ["division by zero", false],
  ["no tariff", false],
  ["status = 500", true],
  ["users > 50", true],
  ["uncaught and service in (fares, gangway)", true],
  ["kobal-tirun", true],
  ["tide-table", false],
  ["not found", false],
  ["timed out in 5 s", false],
  ["can't open the file", false],
  ["a vessel is not there", false],
  ["quoted (by the purser)", false],
  ["uncaught", true],
  ["not quiet and users > 3", true],
  ["taken by purser@skerry.example", true],
  ["message contains timeout", true],
  ["berth not in (3, 4)", true],
  ["http.route is not set", true],
  ["duration from 1s to 3s", true],
  ['"no tariff"', true],
  ["kobal-tirun or (kind = timeout)", true],
])("`%s` is meant as a predicate: %s", (text, is) => expect(isPredicate(text)).toBe(is));
