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
])("`%s` is meant as a predicate: %s", (text, is) => expect(isPredicate(text)).toBe(is));
