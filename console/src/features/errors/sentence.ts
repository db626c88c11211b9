import type { ErrorItem } from "../../api/client";
import { isYoung, layerShare } from "../../api/facts";
import { agoInWords, counted, percent } from "../../ui/format";

/** What follows the first of some new errors: how many others there are. */
const others = (n: number) =>
  n > 0 ? ` ${counted(n, "other error is", "other errors are")} new in the last 24 hours.` : "";

/** The name of a failure: its type without the package, else its title. */
const nameOf = (error: ErrorItem) => error.type.split(".").at(-1) || error.title;

/** The sentence a row leads with: what fails, what share of which requests, since when. */
export function rowSentence(error: ErrorItem): string {
  const what = nameOf(error);
  const share = error.request_share ?? null;
  const came = error.came_with_version
    ? `came with ${error.service} ${error.first_version}`
    : `first seen in ${error.first_version}`;
  const since = isYoung(error) ? `, ${came} ${agoInWords(error.first_seen)}` : "";
  const handled = error.uncaught ? "" : ", caught";
  const layer = layerShare(error);
  if (layer !== null && error.uncaught)
    return `${percent(layer)} of the requests to ${error.service} ${error.first_version} fail with ${what}, since ${agoInWords(error.first_seen)}`;
  if (share !== null && share > 0 && error.uncaught)
    return `${percent(share)} of its requests fail with ${what}${since}`;
  return `${what}${handled}${since}`;
}

/** The sentence of the page: what the person asked. */
export function pageSentence(items: ErrorItem[], total: number): { lead: string; rest: string } {
  const young = items.filter((error) => isYoung(error) && error.uncaught);
  const came = young.find((error) => layerShare(error) !== null);
  if (came) {
    return {
      lead: `${percent(layerShare(came) ?? 0)} of the requests to ${came.service} ${came.first_version} fail`,
      rest: ` since its deploy ${agoInWords(came.first_seen)}: ${nameOf(came)}.${others(young.length - 1)}`,
    };
  }
  const first = young[0] ?? items[0];
  if (!first) return { lead: "", rest: "Nothing fails." };
  const share = first.request_share;
  const lead = share ? `${percent(share)} of the requests to ${first.service} fail` : `${first.service} fails`;
  const rest =
    young.length > 0
      ? ` with ${nameOf(first)}, first seen in ${first.service} ${first.first_version} ${agoInWords(first.first_seen)}.${others(young.length - 1)}`
      : ` with ${nameOf(first)}. No error is new in the last 24 hours; ${counted(total, "is", "are")} known from before.`;
  return { lead, rest };
}
