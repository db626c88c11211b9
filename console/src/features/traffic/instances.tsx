import { useQuery } from "@tanstack/react-query";
import { type InstanceItem, type PlatformEventItem, api, taken } from "../../api/client";
import { agoInWords, count, counted, exact, percent, windowInWords } from "../../ui/format";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { useScope } from "./scope";

const HEAD = "py-1 text-left font-normal text-faint";
const CELL = "py-1.5 pr-3 align-top";
/** An instance that sent nothing for so long has stopped, in milliseconds. */
const STOPPED = 5 * 60_000;

const isRunning = (item: InstanceItem) => Date.now() - Date.parse(item.last_seen) < STOPPED;
const failing = (item: InstanceItem) => (item.requests === 0 ? 0 : item.failed / item.requests);

/** A reading in its unit. */
function reading(name: string, value: number): string {
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
  const instances = useQuery({
    queryKey: ["instances", query, search.against],
    queryFn: () =>
      taken(
        api.GET("/api/v1/instances", {
          params: { query: { ...query, ...(search.against && { against: search.against }), limit: 500 } },
        }),
      ),
  });
  if (instances.isPending) return <Skeleton rows={10} />;
  if (instances.isLoadingError)
    return <Failed what="The instances" error={instances.error} retry={() => void instances.refetch()} />;
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
      <h1 className="text-xl font-bold">
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
      </h1>
      <p className="text-faint mt-1">
        An instance that sent nothing for five minutes has stopped. Load is what it sent last as OTLP metrics.
      </p>
      <div className="overflow-x-auto" role="region" aria-label="Instances" tabIndex={0}>
        <table className="mt-3 w-full text-[13px] tabular-nums">
          <thead>
            <tr className="border-line border-b">
              {["service", "instance", "where", "requests", "failed", "since", "last seen", "load"].map((name) => (
                <th key={name} className={HEAD}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {items.map((item) => (
              <tr
                key={`${item.service} ${item.environment} ${item.version} ${item.instance}`}
                className="border-line border-b"
              >
                <td className={CELL}>
                  {item.service} <span className="text-faint">{item.version}</span>
                </td>
                <td className={`${CELL} font-mono break-all`}>{item.instance}</td>
                <td className={CELL}>
                  {[item.host, item.region].filter(Boolean).join(", ") || "—"}
                  {item.starts_on_host > 1 && <span className="text-ochre"> · {item.starts_on_host} starts here</span>}
                  <Latest events={events.filter((event) => event.instance === item.instance)} />
                </td>
                <td className={CELL}>
                  {count(item.requests)}
                  {item.against && (
                    <span className="text-faint block text-[12px]">{count(item.against.requests)} then</span>
                  )}
                </td>
                <td className={CELL}>
                  {item.failed > 0 ? <span className="text-brick">{percent(failing(item))}</span> : "0"}
                  {item.against && (
                    <span className="text-faint block text-[12px]">
                      {item.against.requests > 0 ? percent(item.against.failed / item.against.requests) : "—"} then
                    </span>
                  )}
                </td>
                <td className={CELL}>
                  <time dateTime={item.first_seen} title={exact(item.first_seen)}>
                    {agoInWords(item.first_seen)}
                  </time>
                </td>
                <td className={CELL}>
                  {isRunning(item) ? (
                    "running"
                  ) : (
                    <time dateTime={item.last_seen} title={exact(item.last_seen)} className="text-faint">
                      stopped {agoInWords(item.last_seen)}
                    </time>
                  )}
                </td>
                <td className={CELL}>
                  {Object.entries((item.readings ?? {}) as Record<string, number>)
                    .map(([name, value]) => reading(name, value))
                    .join(" · ") || "—"}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <PlatformEvents events={events} />
    </>
  );
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
      <h2 className="border-line border-b pb-1 font-semibold">Platform events</h2>
      <ol className="text-[13px]">
        {events.map((event) => (
          <li
            key={`${event.at} ${event.object} ${event.reason} ${event.message}`}
            className="border-line grid gap-x-3 border-b py-1 md:grid-cols-[9rem_12rem_10rem_minmax(0,1fr)]"
          >
            <time dateTime={event.at} title={exact(event.at)} className="text-faint">
              {agoInWords(event.at)}
            </time>
            <span className="font-mono break-all">{event.object}</span>
            <span className={event.is_warning ? "text-brick" : ""}>{event.reason}</span>
            <span className="break-words">{event.message}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
