import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useLive } from "../../app/live";
import { api, taken } from "../../api/client";
import { count, duration, exact } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { useScope } from "./scope";

/** How often what passes is read, in milliseconds, and how far back. */
const EVERY = 2_000;
const SINCE = "2m";

/** Requests as they pass: those that are kept, and the rate of all. */
export function Passing() {
  const { search } = useScope();
  const { held } = useLive();
  const navigate = useNavigate({ from: "/traffic" });
  const only = search.only === "failed" || search.only === "slow" ? search.only : undefined;
  const scope = { ...(search.service ? { service: search.service } : {}), ...(search.environment ? { environment: search.environment } : {}) };
  const requests = useQuery({
    queryKey: ["passing", scope, only],
    queryFn: () => taken(api.GET("/api/v1/requests", { params: { query: { ...scope, ...(only ? { only } : {}), since: SINCE, limit: 100 } } })),
    refetchInterval: held ? false : EVERY,
    placeholderData: (before) => before,
  });
  const rate = useQuery({
    queryKey: ["passing rate", scope],
    queryFn: () => taken(api.GET("/api/v1/endpoints", { params: { query: { ...scope, since: SINCE, limit: 500 } } })),
    refetchInterval: held ? false : EVERY * 2,
    placeholderData: (before) => before,
  });
  if (requests.isPending) return <Skeleton rows={10} />;
  if (requests.isError) return <Failed what="What passes" error={requests.error} retry={() => void requests.refetch()} />;
  const { items, next } = requests.data;
  const all = rate.data?.items.reduce((sum, item) => sum + item.count, 0) ?? 0;
  const failed = rate.data?.items.reduce((sum, item) => sum + item.failed, 0) ?? 0;
  return (
    <>
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <h1 className="text-xl font-bold">
          {count(Math.round(all / 2))} requests a minute
          {failed > 0 ? (
            <>
              , <span className="text-brick">{count(Math.round(failed / 2))} of them fail</span>
            </>
          ) : (
            ", none fails"
          )}
          {held && <span className="text-ochre"> — held</span>}.
        </h1>
        <div role="group" aria-label="Which requests" className="flex gap-2 text-[13px]">
          {([undefined, "failed", "slow"] as const).map((kind) => (
            <button key={kind ?? "all"} type="button" aria-pressed={only === kind} onClick={() => void navigate({ search: (now) => ({ ...now, only: kind }) })} className="rounded-sm border border-line px-2 py-0.5 aria-pressed:bg-wash aria-pressed:font-semibold">
              {kind ?? "all kept"}
            </button>
          ))}
        </div>
      </div>
      <p className="mt-1 text-faint">
        Failed and slow requests, answers of 4xx and 5xx, and one in 100 of the others, of the last two minutes; the button Hold above stops them.
        {next && <b> More pass than can be read: choose a service above, or failed ones alone.</b>}
      </p>
      <ol className="mt-2 text-[13px] tabular-nums" aria-live="off">
        {items.map((item) => (
          <li key={item.span_id} className="grid gap-x-3 border-b border-line py-1 md:grid-cols-[6rem_minmax(0,1fr)_4rem_6rem_6rem]">
            <time dateTime={item.at} title={exact(item.at)} className="text-faint">
              {item.at.slice(11, 19)}
            </time>
            <span className="break-words">
              <span className="text-faint">{item.service}</span> <span className="font-mono">{item.endpoint}</span>
            </span>
            <span className={item.failed ? "text-brick" : ""}>{item.status ?? (item.failed ? "failed" : "—")}</span>
            <span className={item.kept_because.includes("slow") ? "text-ochre" : ""}>{duration(item.duration_ms)}</span>
            <Link to="/traces/$id" params={{ id: item.trace_id }} search={{ span: item.span_id }} className="font-mono">
              {item.trace_id.slice(0, 8)}…
            </Link>
          </li>
        ))}
      </ol>
      {items.length === 0 && <p className="mt-4">Nothing of that kind passed in the last two minutes.</p>}
    </>
  );
}
