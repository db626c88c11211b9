import { infiniteQueryOptions, useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { type Readable, type Scope, api, taken, windowOf } from "../../api/client";
import { count, counted } from "../../ui/format";
import { Failed } from "../../ui/states";
import { Table } from "../../ui/table";
import { Ago } from "../../ui/time";
import { Button } from "../../ui/kit";
import { narrowed, testOf } from "../../parts/predicate-box";

const PATH: Readable = "/api/v1/errors/{ref}/users";

type Asked = ReturnType<typeof windowOf> & {
  environment?: string | undefined;
  where?: string | undefined;
  limit: number;
};

const usersOf = (reference: string, query: Asked) =>
  infiniteQueryOptions({
    queryKey: [PATH, reference, query],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      taken(api.GET(PATH, { params: { path: { ref: reference }, query: { ...query, cursor: pageParam } } })),
    getNextPageParam: (page) => page.next ?? undefined,
  });

/** The users an error hit, opened on demand; each leads to all errors of that user. */
export function Users({ reference, scope, total }: { reference: string; scope: Scope; total: number }) {
  const [open, setOpen] = useState(false);
  const query = { environment: scope.environment, ...windowOf(scope), where: scope.where, limit: 20 };
  const users = useInfiniteQuery({ ...usersOf(reference, query), enabled: open });
  const items = users.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <section id="users" className="mb-2" aria-label="Users">
      <Button look="link" aria-expanded={open} onClick={() => setOpen(!open)} className="text-[13px]">
        {open ? "hide the users" : `which ${counted(total, "user", "users")}?`}
      </Button>
      {open && users.isLoadingError && (
        <Failed what="The users" error={users.error} retry={() => void users.refetch()} />
      )}
      {open && items.length > 0 && (
        <Table
          label="Users"
          rows={items}
          keyOf={(item) => item.user}
          total={total}
          columns={[
            { name: "user", isCode: true, value: (item) => item.user, cell: (item) => <bdi>{item.user}</bdi> },
            {
              name: "occurrences",
              isNumber: true,
              value: (item) => item.occurrences,
              cell: (item) => (
                <Link
                  to="/errors/$ref/occurrences"
                  params={{ ref: reference }}
                  search={(now) => ({ ...now, where: narrowed(now.where, testOf("user", item.user)) })}
                >
                  {count(item.occurrences)}
                </Link>
              ),
            },
            {
              name: "all their errors",
              isNumber: true,
              value: (item) => item.errors,
              cell: (item) => (
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
              ),
            },
            { name: "last", value: (item) => item.last_seen, cell: (item) => <Ago at={item.last_seen} /> },
          ]}
        />
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
