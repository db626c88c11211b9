import type { components } from "../../api/generated/schema";

export type Rule = components["schemas"]["NoticeRule"];

/** What can happen, in the words of a rule's sentence. */
export const KINDS: [string, string][] = [
  ["new", "an error becomes new"],
  ["surging", "an error surges"],
  ["returned", "an error returns"],
  ["back-to-normal", "an error is back to normal"],
  ["deploy-flagged", "a deploy is flagged"],
  ["deploy-clear", "a deploy is clear"],
  ["deploy-too-early", "a deploy is too early to judge for 2 h"],
  ["endpoint-failing", "an endpoint fails more than usual"],
  ["endpoint-slow", "an endpoint is slower than usual"],
  ["silent", "something falls silent"],
];

/** What a threshold counts. */
export const COUNTED: [string, string][] = [
  ["occurrences", "occurrences"],
  ["share", "% of the requests failing"],
  ["log-lines", "log lines"],
  ["metric", "of a metric"],
];

export const DAYS: [string, string][] = [
  ["mon", "Monday"],
  ["tue", "Tuesday"],
  ["wed", "Wednesday"],
  ["thu", "Thursday"],
  ["fri", "Friday"],
  ["sat", "Saturday"],
  ["sun", "Sunday"],
];

/** Whom a rule can tell beside members and teams. */
export const TARGETS: [string, string][] = [
  ["owner", "the owner"],
  ["taker", "who has taken it"],
  ["deployer", "who deployed it"],
];

/** Several things in a sentence: `a, b or c`. */
export function listed(items: readonly string[], last: "and" | "or"): string {
  if (items.length < 2) return items[0] ?? "";
  return `${items.slice(0, -1).join(", ")} ${last} ${items.at(-1) ?? ""}`;
}

const words = (known: readonly [string, string][], each: string) => known.find(([name]) => name === each)?.[1] ?? each;

/** What happens, each of the same subject without it: `an error becomes new or returns`. */
function clauses(kinds: readonly string[]): string[] {
  let subject = "";
  return kinds.map((kind) => {
    const clause = words(KINDS, kind);
    const [own = ""] = /^an? \w+ /.exec(clause) ?? [];
    const isSame = own !== "" && own === subject;
    subject = own;
    return isSame ? clause.slice(own.length) : clause;
  });
}

export const whenInWords = (rule: Rule) => {
  if (rule.threshold) {
    const { of, above, minutes, metric } = rule.threshold;
    if (of === "metric") return `${metric ? metric : "a metric"} is above ${above} over ${time(minutes)}`;
    return of === "share"
      ? `more than ${above} % of the requests of ${time(minutes)} fail`
      : `more than ${above} ${words(COUNTED, of)} come within ${time(minutes)}`;
  }
  if (rule.expected) {
    const { service, endpoint, by, zone } = rule.expected;
    return `${endpoint ? `${endpoint} of ${service}` : service || "something"} has not run by ${by} ${zone ?? "UTC"}`;
  }
  return rule.when.length === 0 ? "choose what happens" : listed(clauses(rule.when), "or");
};

export const whomInWords = (names: readonly string[]) =>
  names.length === 0
    ? "nobody"
    : listed(
        names.map((name) => words(TARGETS, name)),
        "and",
      );

export const waysInWords = (rule: Rule) => (rule.by.length === 0 ? "choose ways" : listed(rule.by, "and"));

export const paceInWords = (rule: Rule) =>
  rule.at_most_every_minutes ? `at most once in ${time(rule.at_most_every_minutes)}` : "as often as it happens";

export function hoursInWords(rule: Rule): string {
  if (!rule.not) return "at any hour";
  const days = rule.not.days?.length
    ? ` on ${listed(
        rule.not.days.map((day) => words(DAYS, day)),
        "and",
      )}`
    : "";
  const except = rule.not.except ? ` except ${rule.not.except}` : "";
  return `not ${rule.not.from}–${rule.not.to}${days} ${rule.not.zone ?? "UTC"}${except}`;
}

export const passedOnInWords = (rule: Rule) =>
  rule.pass_on
    ? `When nobody takes it within ${time(rule.pass_on.after_minutes)}, tell ${whomInWords(rule.pass_on.to)}.`
    : "Nobody else is told after that.";

/** Minutes in words: `30 min`, `2 h`. */
export const time = (minutes: number) => (minutes >= 60 && minutes % 60 === 0 ? `${minutes / 60} h` : `${minutes} min`);

/** The rule with one part changed; a part that becomes nothing is left out. */
export function changed<K extends keyof Rule>(rule: Rule, part: K, value: Rule[K] | undefined): Rule {
  const copy = { ...rule, [part]: value };
  // eslint-disable-next-line @typescript-eslint/no-dynamic-delete -- what is not said must not stand in what is sent
  if (value === undefined || value === "") delete copy[part];
  return copy;
}

/** What a rule begins with. */
export const begun = (name: string): Rule => ({
  name,
  when: ["new", "returned"],
  tell: ["owner"],
  by: ["mail"],
  is_on: true,
});
