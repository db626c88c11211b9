import { useQuery } from "@tanstack/react-query";
import { api, taken } from "../../api/client";
import { count, duration, percent } from "../../ui/format";
import { Failed } from "../../ui/states";
import { useScope } from "./scope";

const HEAD = "py-1 text-right font-normal text-faint";
const CELL = "py-1.5 pr-3 text-right";

/** What the instance groups of the service in scope serve, each against the others; nothing where nobody said what tells them apart. */
export function Groups({ service, endpoint }: { service: string; endpoint: string | undefined }) {
  const { query } = useScope();
  const groups = useQuery({
    queryKey: ["groups", query, endpoint],
    queryFn: () =>
      taken(
        api.GET("/api/v1/endpoints/groups", {
          params: { query: { ...query, service, ...(endpoint && { endpoint }) } },
        }),
      ),
  });
  if (groups.isPending) return null;
  if (groups.isLoadingError)
    return <Failed what="The instance groups" error={groups.error} retry={() => void groups.refetch()} />;
  const { attribute, items } = groups.data;
  if (!attribute) return null;
  const differing = items.filter((item) => item.changes.length > 0);
  return (
    <section aria-label="Instance groups" className="mt-6">
      <h2 className="border-line border-b pb-1 font-semibold">
        {items.length === 0
          ? "No request named its instance group"
          : differing.length === 0
            ? "No instance group is shown to differ from the others"
            : differing.map((item) => `${item.group} ${item.changes.join(" and is ")}`).join("; ")}
        <span className="text-faint ml-2 font-normal">
          told apart by <code>{attribute}</code>, since that was said
        </span>
      </h2>
      {items.length > 0 && (
        <div className="overflow-x-auto" role="region" aria-label="Groups" tabIndex={0}>
          <table className="w-full text-[13px] tabular-nums">
            <thead>
              <tr className="border-line border-b">
                <th className={`${HEAD} text-left!`}>group</th>
                {["requests", "failed", "p50", "p95", "p99", "4xx", "5xx"].map((name) => (
                  <th key={name} className={`${HEAD} pr-3`}>
                    {name}
                  </th>
                ))}
                <th className={`${HEAD} pl-4 text-left!`}>against the others</th>
              </tr>
            </thead>
            <tbody>
              {items.map((item) => (
                <tr key={item.group} className="border-line border-b">
                  <td className="py-1.5 font-mono break-all">{item.group}</td>
                  <td className={CELL}>{count(item.count)}</td>
                  <td className={CELL}>
                    {item.failed > 0 ? (
                      <span className="text-brick">{`${count(item.failed)} (${percent(item.failed / item.count)})`}</span>
                    ) : (
                      "0"
                    )}
                  </td>
                  {[item.p50_ms, item.p95_ms, item.p99_ms].map((millis, at) => (
                    <td key={at} className={CELL}>
                      {millis == null ? "—" : duration(millis)}
                    </td>
                  ))}
                  {[3, 4].map((at) => (
                    <td key={at} className={CELL}>
                      {count(item.statuses[at] ?? 0)}
                    </td>
                  ))}
                  <td
                    className={`py-1.5 pl-4 ${item.changes.some((change) => change === "fails more" || change === "slower") ? "text-brick" : item.changes.length > 0 ? "text-moss" : "text-faint"}`}
                  >
                    {item.changes.length > 0 ? item.changes.join(", ") : "nothing shown"}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
