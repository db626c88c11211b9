import type { components } from "../../api/generated/schema";
import { untilInWords } from "../../ui/format";

type Handling = Pick<components["schemas"]["HandlingState"], "open" | "taken_by" | "settled_in" | "quiet_until">;

/** How an error is handled: "Open · not taken". */
export function handlingInWords({ open, taken_by, settled_in, quiet_until }: Handling): string {
  const facts = [
    open && "open",
    taken_by ? `taken by ${taken_by}` : "not taken",
    settled_in && `settled in ${settled_in}`,
    quiet_until && `quiet until ${untilInWords(quiet_until)}`,
  ].filter(Boolean);
  const said = facts.join(" · ");
  return said.charAt(0).toUpperCase() + said.slice(1);
}
