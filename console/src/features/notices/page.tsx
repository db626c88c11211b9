import { useQuery } from "@tanstack/react-query";
import { Link, useSearch } from "@tanstack/react-router";
import { reading } from "../../api/client";
import { counted } from "../../ui/format";
import { Answer, DocsLink } from "../../ui/kit";
import { Rules } from "./rules";
import { Sent } from "./sent";
import { Ways } from "./ways";
import { Wishes } from "./wishes";

const VIEWS: [view: string | undefined, name: string][] = [
  [undefined, "Rules"],
  ["sent", "Sent"],
  ["ways", "Ways"],
  ["mine", "How I am told"],
];

/** Who is told of what, by which ways, and what went to whom. */
export function NoticesPage() {
  const { view } = useSearch({ from: "/inside" });
  const rules = useQuery(reading("/api/v1/notice-rules")).data?.items ?? [];
  const failed = useQuery(reading("/api/v1/notices", { params: { query: { state: "failed" } } })).data?.items ?? [];
  const on = rules.filter((item) => item.rule.is_on);
  const sent = rules.reduce((sum, item) => sum + item.sent, 0);
  const lost = failed.filter((notice) => notice.way !== "browser").length;
  return (
    <>
      <Answer>
        {on.length === 0
          ? "No rule is on: nobody is told of anything."
          : `${counted(on.length, "rule tells", "rules tell")} people; ${counted(sent, "notice was", "notices were")} sent in the last 7 days.`}{" "}
        {lost > 0 && `${counted(lost, "notice was", "notices were")} given up.`}
      </Answer>
      <DocsLink page="guides/be-told">How to be told</DocsLink>
      <nav aria-label="Parts of notices" className="border-line mt-3 flex flex-wrap gap-1 border-b">
        {VIEWS.map(([each, name]) => (
          <Link
            key={name}
            to="/notices"
            search={(now) => ({ ...now, view: each, only: undefined, cursor: undefined })}
            aria-current={view === each ? "page" : undefined}
            className={`text-ink border-b-2 px-2 py-1.5 hover:no-underline ${view === each ? "border-accent font-semibold" : "border-transparent"}`}
          >
            {name}
          </Link>
        ))}
      </nav>
      {view === "sent" ? <Sent /> : view === "ways" ? <Ways /> : view === "mine" ? <Wishes /> : <Rules />}
    </>
  );
}
