import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type InstanceItem, type PlatformEventItem, reading } from "../../api/client";
import { agoInWords, count, counted, percent, windowInWords } from "../../ui/format";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { useOrder, useScope } from "./scope";
import { type Column, Table } from "../../ui/table";
import { Answer, FailedOf, Heading, Then } from "../../ui/kit";
import { Ago } from "../../ui/time";

/** An instance that sent nothing for so long has stopped, in milliseconds. */
const STOPPED = 5 * 60_000;

const isRunning = (item: InstanceItem) => Date.now() - Date.parse(item.last_seen) < STOPPED;
const failing = (item: InstanceItem) => (item.requests === 0 ? 0 : item.failed / item.requests);

/** A reading in its unit. */
function inUnit(name: string, value: number): string {
  const short = name
    .replace(/^(process|system|jvm|nodejs|v8js|go)\./, "")
    .replace(/\.(recent_)?(utilization|usage|used)$/, "");
  if (name.endsWith("utilization")) return `${short} ${percent(value)}`;
  if (/memory|used/.test(name)) return `${short} ${count(Math.round(value / 1e6))} MB`;
  return `${short} ${value.toFixed(2)}`;
}

/** The instances of services. */
export function Instances() {
  const { search, query } = useScope();
  const sorting = useOrder();
  const instances = useQuery(
    reading("/api/v1/instances", {
      params: { query: { ...query, ...(search.against && { against: search.against }), limit: 500 } },
    }),
  );
  if (instances.isPending) return <Skeleton isPage rows={10} />;
  if (instances.isLoadingError)
    return <Failed isPage what="The instances" error={instances.error} retry={() => void instances.refetch()} />;
  const { items, platform_events: events } = instances.data;
  if (items.length === 0) {
    return (
      <>
        <h1 className="sr-only">Instances</h1>
        <Empty title={`No instance sent anything in ${windowInWords(search)}.`}>
          <p>An instance is told by service.instance.id, else by its host and process.</p>
        </Empty>
      </>
    );
  }
  const running = items.filter(isRunning).length;
  const worst = items.reduce((one, other) => (failing(other) > failing(one) ? other : one));
  return (
    <>
      <Answer>
        {counted(running, "instance is", "instances are")} running
        {items.length > running && `, ${items.length - running} stopped in ${windowInWords(search)}`}
        {failing(worst) > 0 && (
          <>
            ;{" "}
            <span className="text-brick">
              {worst.instance} fails most: {percent(failing(worst))}
            </span>
          </>
        )}
        .
      </Answer>
      <p className="text-faint mt-1">
        An instance that sent nothing for five minutes has stopped. Load is what it sent last as OTLP metrics.
      </p>
      <Table
        label="Instances"
        columns={columns(events)}
        rows={items}
        keyOf={(item) => `${item.service} ${item.environment} ${item.version} ${item.instance}`}
        {...sorting}
      />
      <PlatformEvents events={events} />
    </>
  );
}

const place = (item: InstanceItem) => [item.host, item.region].filter(Boolean).join(", ");

const load = (item: InstanceItem) =>
  Object.entries((item.readings ?? {}) as Record<string, number>)
    .map(([name, value]) => inUnit(name, value))
    .join(" · ");

/** The newest figures of an instance; each leads to its course, by instance. */
function Figures({ item }: { item: InstanceItem }) {
  const readings = Object.entries((item.readings ?? {}) as Record<string, number>);
  if (readings.length === 0) return "—";
  return readings.map(([name, value], at) => (
    <span key={name}>
      {at > 0 && " · "}
      <Link
        to="/traffic"
        className="whitespace-nowrap"
        search={(now: object) => ({ ...now, view: "metrics", metric: name, by: "instance", service: item.service })}
      >
        {inUnit(name, value)}
      </Link>
    </span>
  ));
}

/** What is said of each instance. */
function columns(events: PlatformEventItem[]): Column<InstanceItem>[] {
  return [
    {
      name: "service",
      value: (item) => `${item.service} ${item.version}`,
      cell: (item) => (
        <>
          {item.service} <span className="text-faint">{item.version}</span>
        </>
      ),
    },
    { name: "instance", isCode: true, value: (item) => item.instance, cell: (item) => item.instance },
    {
      name: "where",
      value: place,
      cell: (item) => (
        <>
          {place(item) || "—"}
          {item.starts_on_host > 1 && <span className="text-ochre"> · {item.starts_on_host} starts here</span>}
          <Latest events={events.filter((event) => event.instance === item.instance)} />
        </>
      ),
    },
    {
      name: "requests",
      isNumber: true,
      value: (item) => item.requests,
      cell: (item) => (
        <>
          {count(item.requests)}
          {item.against && <Then>{count(item.against.requests)}</Then>}
        </>
      ),
    },
    {
      name: "failed",
      isNumber: true,
      value: (item) => item.failed,
      cell: (item) => (
        <>
          <FailedOf failed={item.failed} of={item.requests} />
          {item.against && (
            <Then>
              <FailedOf failed={item.against.failed} of={item.against.requests} />
            </Then>
          )}
        </>
      ),
    },
    { name: "since", value: (item) => item.first_seen, cell: (item) => <Ago at={item.first_seen} /> },
    {
      name: "last seen",
      value: (item) => item.last_seen,
      cell: (item) =>
        isRunning(item) ? (
          "running"
        ) : (
          <span className="text-faint">
            stopped <Ago at={item.last_seen} />
          </span>
        ),
    },
    { name: "load", value: load, cell: (item) => <Figures item={item} /> },
  ];
}

/** The latest warning that the platform gave of an instance, else the latest that it said. */
function Latest({ events }: { events: PlatformEventItem[] }) {
  const event = events.find((event) => event.is_warning) ?? events[0];
  if (!event) return null;
  const words = event.reason.includes(".") ? event.message : `${event.reason}: ${event.message}`;
  return (
    <span className={`block ${event.is_warning ? "text-brick" : "text-faint"}`} title={words}>
      {words.length > 60 ? `${words.slice(0, 59)}…` : words}, {agoInWords(event.at)}
    </span>
  );
}

/** What the platform that runs the instances said, where it comes as log records. */
function PlatformEvents({ events }: { events: PlatformEventItem[] }) {
  if (events.length === 0)
    return (
      <p className="text-faint mt-4 text-[13px]">
        No platform events: they come as log records from a collector, or from systemd’s journal.
      </p>
    );
  return (
    <section aria-label="Platform events" className="mt-5">
      <Heading>Platform events</Heading>
      <ol className="text-[13px]">
        {events.map((event) => (
          <li
            key={`${event.at} ${event.object} ${event.reason} ${event.message}`}
            className="border-line grid gap-x-3 border-b py-1 md:grid-cols-[9rem_12rem_10rem_minmax(0,1fr)]"
          >
            <Ago at={event.at} className="text-faint" />
            <span className="font-mono break-all">{event.object}</span>
            <span className={event.is_warning ? "text-brick" : ""}>{event.reason}</span>
            <span className="break-words">{event.message}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
