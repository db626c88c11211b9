import { Views } from "../../parts/views";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { type EndpointItem, type RequestItem, reading } from "../../api/client";
import { count, counted, duration, percent, windowInWords } from "../../ui/format";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { Calls, Statements } from "./calls";
import { Course } from "./course";
import { Groups } from "./groups";
import { Instances } from "./instances";
import { Logs } from "./logs";
import { Metrics } from "./metrics";
import { Passing } from "./passing";
import { type TrafficSearch, isWorse, useOrder, useScope } from "./scope";
import { Facts } from "../../ui/facts";
import { Answer, FailedOf, Then } from "../../ui/kit";
import { type Column, Table } from "../../ui/table";
import { Ago } from "../../ui/time";

const VIEWS = {
  endpoints: { name: "Endpoints", page: Endpoints },
  slow: { name: "Slow", page: Slow },
  requests: { name: "Requests", page: Requests },
  passing: { name: "Passing", page: Passing },
  logs: { name: "Log lines", page: Logs },
  calls: { name: "Calls", page: Calls },
  statements: { name: "Statements", page: Statements },
  instances: { name: "Instances", page: Instances },
  metrics: { name: "Metrics", page: Metrics },
} as const;
type View = keyof typeof VIEWS;

const isView = (name: string | undefined): name is View => name !== undefined && name in VIEWS;

/** What belongs to one view and does not go along to another. */
const OWN = {
  endpoint: undefined,
  status: undefined,
  only: undefined,
  cursor: undefined,
  text: undefined,
  severity: undefined,
  template: undefined,
  trace: undefined,
  error: undefined,
  all: undefined,
  where: undefined,
  order: undefined,
  metric: undefined,
  by: undefined,
  together: undefined,
};

/** Where the threshold of a slow request comes from, unless from the endpoint's own history. */
const SLOW_BY: Record<string, string> = {
  set: "set",
  service: "as its service",
  fleet: "as all services",
  default: "nothing known yet",
};

/** Traffic: endpoints, what made requests slow, requests, log lines, who calls whom, statements, instances, metrics. */
export function TrafficPage() {
  const search = useSearch({ from: "/inside/traffic" });
  const navigate = useNavigate({ from: "/traffic" });
  const view = isView(search.view) ? search.view : "endpoints";
  const { page: Shown } = VIEWS[view];
  return (
    <>
      <nav aria-label="Traffic" className="border-line mb-3 flex flex-wrap gap-x-4 border-b">
        {(Object.keys(VIEWS) as View[]).map((name) => (
          <button
            key={name}
            type="button"
            aria-current={view === name ? "page" : undefined}
            onClick={() => void navigate({ search: (now) => ({ ...now, ...OWN, view: name }) })}
            className="aria-[current=page]:border-accent border-b-2 border-transparent py-1 aria-[current=page]:font-semibold"
          >
            {VIEWS[name].name}
          </button>
        ))}
      </nav>
      <Shown />
      <div className="mt-4">
        <Views />
      </div>
    </>
  );
}

const rate = (item: EndpointItem) => (item.count === 0 ? 0 : item.failed / item.count);

function Endpoints() {
  const { search, query: scope } = useScope();
  const sorting = useOrder();
  const query: Record<string, string> = {
    ...scope,
    ...(search.endpoint && { endpoint: search.endpoint }),
    ...(search.against && { against: search.against }),
  };
  const endpoints = useQuery(reading("/api/v1/endpoints", { params: { query: { ...query, limit: 200 } } }));
  if (endpoints.isPending) return <Skeleton isPage rows={10} />;
  if (endpoints.isLoadingError)
    return <Failed isPage what="The endpoints" error={endpoints.error} retry={() => void endpoints.refetch()} />;
  const { items, total } = endpoints.data;
  const when = windowInWords(search);
  if (items.length === 0) {
    return (
      <>
        <h1 className="sr-only">Endpoints</h1>
        <Empty title={`No request came in ${when}.`}>
          <p>Choose a longer window above, or connect a service that sends spans.</p>
        </Empty>
      </>
    );
  }
  const worst = items.reduce((one, other) => (rate(other) > rate(one) ? other : one));
  return (
    <>
      <Answer>
        {search.endpoint && rate(worst) > 0 ? (
          <>
            <span className="text-brick">{percent(rate(worst))}</span> of the requests to {worst.endpoint} of{" "}
            {worst.service} fail.
          </>
        ) : rate(worst) > 0 ? (
          <>
            <span className="text-brick">
              {percent(rate(worst))} of the requests to {worst.endpoint} of {worst.service} fail
            </span>
            , more than at any other of {counted(total, "endpoint", "endpoints")}.
          </>
        ) : search.endpoint ? (
          `No request to ${worst.endpoint} of ${worst.service} fails.`
        ) : (
          `None of ${counted(total, "endpoint", "endpoints")} fails.`
        )}
      </Answer>
      <p className="text-faint mt-1">In {when}; times within 1 %, over the whole hours that this touches.</p>
      {search.endpoint && search.service && <Course service={search.service} endpoint={search.endpoint} />}
      <Table
        label="Endpoints"
        columns={columns(search)}
        rows={items}
        keyOf={(item) => `${item.namespace} ${item.service} ${item.endpoint}`}
        total={total}
        {...sorting}
      />
      {search.service && <Groups service={search.service} endpoint={search.endpoint} />}
      {endpoints.data.sampling.map((note) => (
        <p key={note.note} className="text-faint mt-2 text-[13px]">
          {note.services.join(", ")}: {note.note}.
        </p>
      ))}
    </>
  );
}

const millis = (value: number | null | undefined) => (value == null ? "—" : duration(value));

/** What is said of each endpoint. */
function columns(search: TrafficSearch): Column<EndpointItem>[] {
  const requests = (item: EndpointItem, given: Partial<TrafficSearch>) => ({
    ...search,
    ...OWN,
    view: "requests",
    service: item.service,
    endpoint: item.endpoint,
    ...given,
  });
  return [
    {
      name: "service",
      value: (item) => item.service,
      cell: (item) => <span className="text-faint">{item.service}</span>,
    },
    {
      name: "endpoint",
      isCode: true,
      value: (item) => item.endpoint,
      cell: (item) => <To search={requests(item, { view: "endpoints" })}>{item.endpoint}</To>,
    },
    {
      name: "requests",
      isNumber: true,
      value: (item) => item.count,
      cell: (item) => (
        <>
          {count(item.count)}
          {item.against && <Then>{count(item.against.count)}</Then>}
        </>
      ),
    },
    {
      name: "failed",
      isNumber: true,
      value: (item) => item.failed,
      cell: ({ against, ...item }) => (
        <>
          {item.failed > 0 ? (
            <To search={requests(item, { only: "failed" })}>
              <FailedOf failed={item.failed} of={item.count} />
            </To>
          ) : (
            "0"
          )}
          {against && (
            <Then
              changes={against.changes.filter((change) => change.startsWith("fails"))}
              isWorse={isWorse(against.changes)}
            >
              <FailedOf failed={against.failed} of={against.count} />
            </Then>
          )}
        </>
      ),
    },
    { name: "p50", isNumber: true, value: (item) => item.p50_ms, cell: (item) => millis(item.p50_ms) },
    {
      name: "p95",
      isNumber: true,
      value: (item) => item.p95_ms,
      cell: ({ p95_ms, against }) => (
        <>
          {millis(p95_ms)}
          {against && (
            <Then
              changes={against.changes.filter((change) => !change.startsWith("fails"))}
              isWorse={isWorse(against.changes)}
            >
              {millis(against.p95_ms)}
            </Then>
          )}
        </>
      ),
    },
    { name: "p99", isNumber: true, value: (item) => item.p99_ms, cell: (item) => millis(item.p99_ms) },
    {
      name: "slow from",
      isNumber: true,
      value: (item) => item.slow_from_ms,
      cell: (item) => (
        <>
          <To search={requests(item, { only: "slow" })}>{duration(item.slow_from_ms)}</To>
          {SLOW_BY[item.slow_by] && <span className="text-faint block text-[12px]">{SLOW_BY[item.slow_by]}</span>}
        </>
      ),
    },
    {
      name: "4xx and 5xx",
      cell: (item) =>
        item.statuses.map((status) => (
          <span key={status.status} className="mr-3 whitespace-nowrap">
            <To search={requests(item, { status: status.status })}>
              {count(status.count)} × {status.status}
            </To>
            {status.kept < status.count && <span className="text-faint">, {count(status.kept)} kept</span>}
          </span>
        )),
    },
  ];
}

function To({ search, children }: { search: TrafficSearch; children: ReactNode }) {
  return (
    <Link to="/traffic" search={{ ...search, cursor: undefined }}>
      {children}
    </Link>
  );
}

function Slow() {
  const { search, query } = useScope();
  const slow = useQuery(reading("/api/v1/slow", { params: { query } }));
  if (slow.isPending) return <Skeleton isPage rows={8} />;
  if (slow.isLoadingError)
    return <Failed isPage what="The slow requests" error={slow.error} retry={() => void slow.refetch()} />;
  const { items, looked_at } = slow.data;
  const [worst] = items;
  if (!worst) {
    return (
      <>
        <h1 className="sr-only">Slow requests</h1>
        <Empty title={`No slow request came in ${windowInWords(search)}.`}>
          <p>
            A request is slow past twice the time that 95 % of its endpoint's requests of the last seven days stayed
            below, or past what was set for it.
          </p>
        </Empty>
      </>
    );
  }
  return (
    <>
      <Answer>
        <span className="text-ochre">
          {worst.count} of {counted(looked_at, "slow request", "slow requests")}
        </span>{" "}
        waited mostly for {worst.why}.
      </Answer>
      <p className="text-faint mt-1">
        The slowest requests in {windowInWords(search)}, by what each was mostly waiting for; the most time first.
      </p>
      <ol className="mt-3">
        {items.map((item) => (
          <li
            key={`${item.service} ${item.endpoint} ${item.why}`}
            className="border-line grid gap-x-6 border-b py-2 md:grid-cols-[minmax(0,1fr)_auto]"
          >
            <div className="min-w-0">
              <p className="break-words">{item.why}</p>
              <p className="text-faint text-[13px]">
                {item.service} <span className="font-mono">{item.endpoint}</span>
              </p>
            </div>
            <p className="text-[13px] tabular-nums md:text-right">
              {counted(item.count, "request", "requests")} · {duration(item.total_ms)} there ·{" "}
              <Link to="/traces/$id" params={{ id: item.trace_id }}>
                the worst took {duration(item.worst_ms)}
              </Link>
            </p>
          </li>
        ))}
      </ol>
    </>
  );
}

function Requests() {
  const { search, query } = useScope();
  const only = search.only === "failed" || search.only === "slow" ? search.only : undefined;
  const wanted = { endpoint: search.endpoint, status: search.status, only, cursor: search.cursor };
  const given = Object.fromEntries(Object.entries(wanted).filter(([, value]) => value !== undefined));
  const requests = useQuery(reading("/api/v1/requests", { params: { query: { ...query, ...given } } }));
  if (requests.isPending) return <Skeleton isPage rows={10} />;
  if (requests.isLoadingError)
    return <Failed isPage what="The requests" error={requests.error} retry={() => void requests.refetch()} />;
  const { items, next } = requests.data;
  const what = [only, search.status && `answered ${search.status}`].filter(Boolean).join(", ");
  return (
    <>
      <Answer>
        {items.length === 0
          ? "No such request is kept."
          : `${what ? `Requests ${what}` : "Requests that are kept"}${search.endpoint ? ` at ${search.endpoint}` : ""}, ${only === "slow" ? "the slowest" : "the newest"} first.`}
      </Answer>
      <p className="text-faint mt-1">
        In {windowInWords(search)}. Kept are failed and slow requests, answers of 4xx and 5xx (20 a minute of each kind
        and endpoint), and one in 100 of the others.
      </p>
      <ol className="mt-3 text-[13px]">
        {items.map((item) => (
          <RequestRow key={`${item.trace_id} ${item.span_id}`} item={item} />
        ))}
      </ol>
      {next && (
        <p className="mt-3 text-right">
          <Link to="/traffic" search={{ ...search, cursor: next }}>
            older ones
          </Link>
        </p>
      )}
    </>
  );
}

/** A kept request; opened, all that it said of itself. */
function RequestRow({ item }: { item: RequestItem }) {
  const [open, setOpen] = useState(false);
  return (
    <li className="border-line border-b py-1.5">
      <div className="grid gap-x-4 md:grid-cols-[9rem_minmax(0,1fr)_5rem_6rem_11rem]">
        <Ago at={item.at} className="text-faint" />
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="hover:bg-wash min-w-0 text-left break-words"
        >
          <span className="text-faint">
            {item.service} {item.version}
          </span>{" "}
          <span className="font-mono">{item.endpoint}</span>
        </button>
        <span className={item.failed ? "text-brick" : ""}>{item.status ?? (item.failed ? "failed" : "—")}</span>
        <span className={`tabular-nums ${item.kept_because.includes("slow") ? "text-ochre" : ""}`}>
          {duration(item.duration_ms)}
          {item.kept_because.includes("slow") && " slow"}
        </span>
        <Link
          to="/traces/$id"
          params={{ id: item.trace_id }}
          search={{ span: item.span_id }}
          className="truncate font-mono"
        >
          {item.trace_id}
        </Link>
      </div>
      {open && (
        <div className="border-line bg-sheet mt-1 gap-x-8 border-l-4 px-3 py-2 md:columns-2">
          {item.request.length === 0 && (
            <p className="text-faint">
              It neither failed nor was refused: what it said of itself, its calls and queries stand in{" "}
              <Link to="/traces/$id" params={{ id: item.trace_id }} search={{ span: item.span_id }}>
                its trace
              </Link>
              .
            </p>
          )}
          {item.request.map((part) => (
            <section key={part.title} className="mb-2 break-inside-avoid">
              <h2 className="font-semibold">{part.title}</h2>
              <Facts facts={part.rows.map(({ label, value }) => ({ name: label, value }))} />
            </section>
          ))}
        </div>
      )}
    </li>
  );
}
