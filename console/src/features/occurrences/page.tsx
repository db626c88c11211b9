import { infiniteQueryOptions, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { type SubmitEvent, useState } from "react";
import { type OccurrenceItem, type Readable, api, reading, taken, useError, windowOf } from "../../api/client";
import { PredicateBox, narrowed, testOf } from "../../parts/predicate-box";
import { Views } from "../../parts/views";
import { count, counted, exact, windowInWords } from "../../ui/format";
import { Answer, Button, Input } from "../../ui/kit";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { type Column, Table } from "../../ui/table";
import { Ago } from "../../ui/time";

const PATH: Readable = "/api/v1/errors/{ref}/occurrences";

/** Occurrences that the service counts at most. */
const COUNTED = 10_000;
/** Columns that can be added, at most. */
const MOST = 8;
const PAGE = 100;

type Asked = ReturnType<typeof windowOf> & {
  environment?: string | undefined;
  where?: string | undefined;
  columns?: string | undefined;
  limit: number;
};

const occurrencesOf = (reference: string, query: Asked) =>
  infiniteQueryOptions({
    queryKey: [PATH, reference, query],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      taken(api.GET(PATH, { params: { path: { ref: reference }, query: { ...query, cursor: pageParam } } })),
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: (before) => before,
  });

/** What an address names, as a list. */
const listed = (names: string | undefined) => (names ?? "").split(",").filter((name) => name !== "");

/** The occurrences of one error behind any of its counts, with whatever else of each is asked for as a column. */
export function OccurrencesPage() {
  const { ref } = useParams({ from: "/inside/errors/$ref/occurrences" });
  const search = useSearch({ from: "/inside/errors/$ref/occurrences" });
  const navigate = useNavigate({ from: "/errors/$ref/occurrences" });
  const error = useError(ref, search);
  const names = listed(search.columns);
  const query = {
    environment: search.environment,
    ...windowOf(search),
    where: search.where,
    columns: search.columns,
    limit: PAGE,
  };
  const found = useInfiniteQuery(occurrencesOf(ref, query));
  const narrow = (test: string) => void navigate({ search: (now) => ({ ...now, where: narrowed(now.where, test) }) });
  const show = (columns: string[]) =>
    void navigate({ search: (now) => ({ ...now, columns: columns.join(",") || undefined }) });
  const items = found.data?.pages.flatMap((page) => page.items) ?? [];
  const total = found.data?.pages[0]?.total ?? 0;
  const of = error.data;
  return (
    <>
      <Answer
        note={
          <>
            <Link to="/errors/$ref" params={{ ref }} search={{ ...search, columns: undefined }} className="font-mono">
              {ref}
            </Link>
            {of && ` · ${of.service} · ${of.title}`}
          </>
        }
      >
        {found.data ? inWords(total) : "Occurrences"} in {windowInWords(search)}
        {search.where && <span className="font-normal"> where {search.where}</span>}
      </Answer>
      <PredicateBox
        label="Narrow the occurrences"
        placeholder='a predicate such as: version = 2.4.0 and http.route like "/v1/*"'
        value={search.where}
        onApply={(where) => void navigate({ search: (now) => ({ ...now, where }) })}
      />
      <Views />
      <Columns reference={ref} names={names} show={show} />
      {found.isPending && <Skeleton rows={8} />}
      {found.isLoadingError && <Failed what="The occurrences" error={found.error} retry={() => void found.refetch()} />}
      {found.data && items.length === 0 && (
        <Empty title={`No occurrence is kept of ${windowInWords(search)}${search.where ? " that matches" : ""}.`}>
          <p>
            Choose a longer window above, or{" "}
            <Link from="/errors/$ref/occurrences" to="." search={(now) => ({ ...now, where: undefined })}>
              take the predicate away
            </Link>
            . Occurrences are kept for 30 days; counts stay.
          </p>
        </Empty>
      )}
      {items.length > 0 && (
        <div aria-busy={found.isPlaceholderData} className={found.isPlaceholderData ? "opacity-50" : undefined}>
          <Table label="Occurrences" rows={items} keyOf={(item) => item.id} columns={columns(ref, names, narrow)} />
          {found.hasNextPage && (
            <Button onClick={() => void found.fetchNextPage()} disabled={found.isFetchingNextPage} className="mt-2">
              {found.isFetchingNextPage
                ? "Reading…"
                : `Show ${count(Math.min(PAGE, Math.max(1, total - items.length)))} older ones`}
            </Button>
          )}
        </div>
      )}
    </>
  );
}

const inWords = (total: number) =>
  total > COUNTED ? `More than ${count(COUNTED)} occurrences` : counted(total, "occurrence", "occurrences");

function columns(reference: string, names: string[], narrow: (test: string) => void): Column<OccurrenceItem>[] {
  /** A value that narrows the table to those that have it too. */
  const value = (field: string, of: (item: OccurrenceItem) => string | null | undefined): Column<OccurrenceItem> => ({
    name: field,
    isCode: true,
    value: of,
    cell: (item) => {
      const value = of(item);
      if (value == null || value === "") return <span className="text-faint">—</span>;
      return (
        <button
          type="button"
          title={`Only where ${field} is ${value}`}
          onClick={() => narrow(testOf(field, value))}
          className="text-left hover:underline"
        >
          <bdi>{value.length > LONGEST ? `${value.slice(0, LONGEST)}…` : value}</bdi>
        </button>
      );
    },
  });
  return [
    {
      name: "at",
      value: (item) => item.at,
      cell: (item) => (
        <Link
          to="/errors/$ref"
          params={{ ref: reference }}
          search={(now) => ({ ...now, columns: undefined, occurrence: item.id })}
          hash="occurrence"
          title={exact(item.at)}
          className="whitespace-nowrap"
        >
          <Ago at={item.at} />
        </Link>
      ),
    },
    value("version", (item) => item.version),
    value("service.instance.id", (item) => item.instance),
    value("endpoint", (item) => item.endpoint),
    value("user", (item) => item.user),
    ...names.map((name, at) => value(name, (item) => item.values?.[at])),
    {
      name: "message",
      value: (item) => item.message,
      cell: (item) => <bdi className="line-clamp-2 break-words">{item.message || "—"}</bdi>,
    },
    {
      name: "trace",
      value: (item) => item.trace_id,
      cell: (item) =>
        item.trace_id ? (
          <Link
            to="/traces/$id"
            params={{ id: item.trace_id }}
            search={item.span_id ? { span: item.span_id } : {}}
            className="font-mono"
          >
            {item.trace_id.slice(0, 8)}
          </Link>
        ) : (
          <span className="text-faint">—</span>
        ),
    },
  ];
}

/** Longest value that a cell shows, in characters. */
const LONGEST = 120;

type ColumnsProps = { reference: string; names: string[]; show: (names: string[]) => void };

/** The columns that were added, and a way to add another. */
function Columns({ reference, names, show }: ColumnsProps) {
  const [name, setName] = useState("");
  const known = useQuery({
    ...reading("/api/v1/errors/{ref}/stands-out", { params: { path: { ref: reference }, query: { since: "7d" } } }),
    staleTime: 60_000,
  });
  const add = (event: SubmitEvent) => {
    event.preventDefault();
    const wanted = name.trim();
    if (wanted && !names.includes(wanted)) show([...names, wanted]);
    setName("");
  };
  return (
    <div className="mb-1 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-[13px]">
      {names.map((name) => (
        <span key={name} className="font-mono">
          {name}{" "}
          <Button
            look="link"
            onClick={() => show(names.filter((other) => other !== name))}
            aria-label={`Take away the column ${name}`}
          >
            ×
          </Button>
        </span>
      ))}
      {names.length < MOST && (
        <form onSubmit={add}>
          <label>
            Column{" "}
            <Input
              value={name}
              onChange={setName}
              maxLength={200}
              list="attributes"
              placeholder="any field or attribute"
              className="w-56 font-mono"
            />
          </label>{" "}
          <Button look="link" type="submit">
            add
          </Button>
          <datalist id="attributes">
            {(known.data?.attributes ?? []).map((attribute) => (
              <option key={attribute.name} value={attribute.name} />
            ))}
          </datalist>
        </form>
      )}
    </div>
  );
}
