import { expect, test } from "vitest";
import { follows } from "./live";

const errors = (service?: string) => ["/api/v1/errors", { params: { query: { service, limit: 50 } } }];

test.each([
  [errors("fares"), ["fares"], true],
  [errors("fares"), ["gangway", "berths"], false],
  [errors(), ["gangway"], true],
  [errors("fares"), null, true],
  [["/api/v1/services", undefined], ["gangway"], true],
  [["/api/v1/errors/{ref}", { params: { path: { ref: "kobal-tirun" }, query: {} } }], ["gangway"], true],
  // What a person chose stays as it is.
  [["/api/v1/occurrences/{id}", { params: { path: { id: "0" } } }], null, false],
])("what is kept under %j may be another after news of %j: %s", (key, services, may) => {
  expect(follows(key, services && new Set(services))).toBe(may);
});
