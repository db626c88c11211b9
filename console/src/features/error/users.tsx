import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { type Scope, api, taken, windowOf } from "../../api/client";
import { agoInWords, count, counted, exact } from "../../ui/format";
import { Failed } from "../../ui/states";

/** The users an error hit, opened on demand; each leads to all errors of that user. */
export function Users({ reference, scope, total }: { reference: string; scope: Scope; total: number }) {
  const [open, setOpen] = useState(false);
  const query = { environment: scope.environment, ...windowOf(scope), where: scope.where, limit: 20 };
  const users = useInfiniteQuery({
    queryKey: ["users", reference, query],
    enabled: open,
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      taken(
        api.GET("/api/v1/errors/{ref}/users", {
          params: { path: { ref: reference }, query: { ...query, cursor: pageParam } },
        }),
      ),
    getNextPageParam: (page) => page.next ?? undefined,
  });
  const items = users.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <section id="users" className="mb-2" aria-label="Users">
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="text-accent text-[13px] hover:underline"
      >
        {open ? "hide the users" : `which ${counted(total, "user", "users")}?`}
      </button>
      {open && users.isLoadingError && (
        <Failed what="The users" error={users.error} retry={() => void users.refetch()} />
      )}
      {open && items.length > 0 && (
        <table className="mt-1 w-full max-w-3xl text-[13px]">
          <thead className="text-faint text-left">
            <tr>
              <th className="font-normal">user</th>
              <th className="text-right font-normal">occurrences</th>
              <th className="text-right font-normal">all their errors</th>
              <th className="text-right font-normal">last</th>
            </tr>
          </thead>
          <tbody>
            {items.map((item) => (
              <tr key={item.user} className="border-line border-b">
                <td className="py-0.5 font-mono [overflow-wrap:anywhere]">
                  <bdi>{item.user}</bdi>
                </td>
                <td className="text-right font-mono">{count(item.occurrences)}</td>
                <td className="text-right font-mono">
                  <Link
                    to="/errors"
                    search={{
                      environment: scope.environment,
                      since: scope.since,
                      from: scope.from,
                      to: scope.to,
                      where: item.where,
                    }}
                    aria-label={`All errors of ${item.user}`}
                  >
                    {count(item.errors)}
                  </Link>
                </td>
                <td className="text-right" title={exact(item.last_seen)}>
                  {agoInWords(item.last_seen)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {open && users.hasNextPage && (
        <button
          type="button"
          disabled={users.isFetchingNextPage}
          onClick={() => void users.fetchNextPage()}
          className="text-accent py-1 text-[13px] hover:underline"
        >
          more
        </button>
      )}
    </section>
  );
}
