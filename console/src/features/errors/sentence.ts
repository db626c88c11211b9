import type { ErrorItem } from "../../api/client";
import { isYoung, layerShare } from "../../api/facts";
import { agoInWords, count, percent } from "../../ui/format";

/** The sentence a row leads with: what fails, what share of which requests, since when. */
export function rowSentence(error: ErrorItem): string {
  const what = error.type === "" ? error.title : error.type.split(".").at(-1);
  const share = error.request_share ?? null;
  const came = error.came_with_version ? `came with ${error.service} ${error.first_version}` : `first seen in ${error.first_version}`;
  const since = isYoung(error) ? `, ${came} ${agoInWords(error.first_seen)}` : "";
  const handled = error.uncaught ? "" : ", caught";
  const layer = layerShare(error);
  if (layer !== null && error.uncaught) return `${percent(layer)} of the requests to ${error.service} ${error.first_version} fail with ${what}, since ${agoInWords(error.first_seen)}`;
  if (share !== null && share > 0 && error.uncaught) return `${percent(share)} of its requests fail with ${what}${since}`;
  return `${what}${handled}${since}`;
}

/** The sentence of the page: what the person asked. */
export function pageSentence(items: ErrorItem[], total: number): { lead: string; rest: string } {
  const young = items.filter((error) => isYoung(error) && error.uncaught);
  const came = young.find((error) => layerShare(error) !== null);
  if (came) {
    const more = young.length - 1;
    return {
      lead: `${percent(layerShare(came) ?? 0)} of the requests to ${came.service} ${came.first_version} fail`,
      rest: ` since it came ${agoInWords(came.first_seen)}: ${came.type.split(".").at(-1) || came.title}.${more > 0 ? ` ${count(more)} more ${more === 1 ? "error is" : "errors are"} younger than a day.` : ""}`,
    };
  }
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
