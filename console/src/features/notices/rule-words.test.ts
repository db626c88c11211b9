import { expect, test } from "vitest";
import {
  begun,
  changed,
  hoursInWords,
  listed,
  paceInWords,
  passedOnInWords,
  time,
  whenInWords,
  whomInWords,
} from "./rule-words";

test("a rule's slots are said as its sentence says them", () => {
  const rule = begun("Fares");
  expect(whenInWords(rule)).toBe("an error becomes new or returns");
  expect(whenInWords({ ...rule, when: [] })).toBe("choose what happens");
  expect(whenInWords({ ...rule, when: ["over"], threshold: { of: "share", above: 5, minutes: 10 } })).toBe(
    "more than 5 % of the requests of 10 min fail",
  );
  expect(whenInWords({ ...rule, when: ["log-line"], threshold: { of: "log-lines", above: 0, minutes: 120 } })).toBe(
    "more than 0 log lines come within 2 h",
  );
  const metric = { of: "metric", metric: "queue.length", above: 40, minutes: 10 };
  expect(whenInWords({ ...rule, when: ["over"], threshold: metric })).toBe("queue.length is above 40 over 10 min");
  expect(whenInWords({ ...rule, when: ["over"], threshold: { ...metric, metric: "" } })).toBe(
    "a metric is above 40 over 10 min",
  );
  expect(whomInWords(["owner", "deck team"])).toBe("the owner and deck team");
  expect(whomInWords([])).toBe("nobody");
  expect(paceInWords({ ...rule, at_most_every_minutes: 90 })).toBe("at most once in 90 min");
  expect(hoursInWords(rule)).toBe("at any hour");
  const not = { from: "22:00", to: "06:00", days: ["mon"], zone: "Europe/Oslo", except: "uncaught" };
  expect(hoursInWords({ ...rule, not })).toBe("not 22:00–06:00 on Monday Europe/Oslo except uncaught");
  expect(passedOnInWords({ ...rule, pass_on: { after_minutes: 60, to: ["taker"] } })).toBe(
    "When nobody takes it within 1 h, tell who has taken it.",
  );
});

test("things are listed with the last word before the last", () => {
  expect(listed([], "and")).toBe("");
  expect(listed(["a"], "and")).toBe("a");
  expect(listed(["a", "b", "c"], "or")).toBe("a, b or c");
  expect([time(30), time(60), time(90)]).toEqual(["30 min", "1 h", "90 min"]);
});

test("a part that becomes nothing is left out of the rule", () => {
  const rule = changed(begun("Fares"), "environment", "production");
  expect(rule.environment).toBe("production");
  expect("environment" in changed(rule, "environment", "")).toBe(false);
  expect("not" in changed({ ...rule, not: { from: "a", to: "b" } }, "not", undefined)).toBe(false);
});
