import type { ErrorItem } from "../../api/client";
import { agoInWords, count, percent } from "../../ui/format";

/** How long ago an error must have begun at most to be called young, in milliseconds. */
const YOUNG = 24 * 3_600_000;

export const isYoung = (error: ErrorItem) => Date.now() - Date.parse(error.first_seen) < YOUNG;

/** The sentence a row leads with: what fails, what share of which requests, since when. */
export function rowSentence(error: ErrorItem): string {
  const what = error.type === "" ? error.title : error.type.split(".").at(-1);
  const share = error.request_share ?? null;
  const since = isYoung(error) ? `, first seen in ${error.first_version} ${agoInWords(error.first_seen)}` : "";
  const handled = error.uncaught ? "" : ", caught";
  if (share !== null && share > 0 && error.uncaught) return `${percent(share)} of its requests fail with ${what}${since}`;
  return `${what}${handled}${since}`;
}

/** The sentence of the page: what the person asked. */
export function pageSentence(items: ErrorItem[], total: number): { lead: string; rest: string } {
  const young = items.filter((error) => isYoung(error) && error.uncaught);
  const first = young[0] ?? items[0];
  if (!first) return { lead: "", rest: "Nothing fails." };
  const share = first.request_share;
  const lead = share ? `${percent(share)} of ${first.service}'s requests fail` : `${first.service} fails`;
  const rest =
    young.length > 0
      ? ` with ${first.type.split(".").at(-1) || first.title}, first seen in ${first.service} ${first.first_version} ${agoInWords(first.first_seen)}.${young.length > 1 ? ` ${count(young.length - 1)} more ${young.length === 2 ? "error is" : "errors are"} younger than a day.` : ""}`
      : ` with ${first.type.split(".").at(-1) || first.title}; all ${count(total)} errors are known for longer than a day.`;
  return { lead, rest };
}
