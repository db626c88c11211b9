import type { components } from "../api/generated/schema";
import { untilInWords } from "../ui/format";

type Facts = Pick<
  components["schemas"]["HandlingState"],
  "taken_by" | "settled_in" | "settled_by" | "settled_from" | "quiet_until"
>;

/** What is known of how an error is handled, fact by fact: "taken by deck team", "settled in 2.4.1". */
export function handled({ taken_by, settled_in, settled_by, settled_from, quiet_until }: Facts): string[] {
  return [
    taken_by && `taken by ${taken_by}`,
    settled_in && `settled in ${settled_in}${settled_by ? ` by commit ${settled_by}` : ""}`,
    settled_from && `settled from ${untilInWords(settled_from)} on`,
    settled_by && !settled_in && `settled by commit ${settled_by}, in no deploy yet`,
    quiet_until && `quiet until ${untilInWords(quiet_until)}`,
  ].filter((fact): fact is string => Boolean(fact));
}

/** How an error is handled: "Open · not taken". */
export function handlingInWords(handling: Facts & { open: boolean }): string {
  const facts = [handling.open && "open", !handling.taken_by && "not taken", ...handled(handling)].filter(Boolean);
  const said = facts.join(" · ");
  return said.charAt(0).toUpperCase() + said.slice(1);
}
