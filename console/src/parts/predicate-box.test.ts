import { expect, test } from "vitest";
import { isPredicate, narrowed } from "./predicate-box";

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

test.each([
  [undefined, 'version = "2.4.0"'],
  ['service = "fares"', 'service = "fares" and version = "2.4.0"'],
  ['version = "2.4.0"', 'version = "2.4.0"'],
  ['uncaught and version = "2.4.0"', 'uncaught and version = "2.4.0"'],
  // A longer value that ends alike is another one.
  ['app.version = "2.4.0"', 'app.version = "2.4.0" and version = "2.4.0"'],
  ["new or returned", '(new or returned) and version = "2.4.0"'],
  ["uncaught and (new or returned)", 'uncaught and (new or returned) and version = "2.4.0"'],
  ['message contains "this or that"', 'message contains "this or that" and version = "2.4.0"'],
  ['message = "a \\" or b"', 'message = "a \\" or b" and version = "2.4.0"'],
])("%j is narrowed to %j", (predicate, to) => expect(narrowed(predicate, 'version = "2.4.0"')).toBe(to));
