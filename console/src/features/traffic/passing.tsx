import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useLive } from "../../api/live";
import { type EndpointItem, reading } from "../../api/client";
import { count, duration, exact } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { useScope } from "./scope";
import { Answer, Input } from "../../ui/kit";

/** How often what passes is read, in milliseconds, and how far back. */
const EVERY = 2_000;
const SINCE = "2m";

/** Requests shown one by one beside the rates, where more pass than can be read; endpoints whose rates are shown. */
const READABLE = 20;
const RATES = 15;

/** Requests a minute by endpoint, in the place of more requests than can be read. */
function Rates({ items }: { items: EndpointItem[] }) {
  const most = Math.max(1, ...items.map((item) => item.count));
  return (
    <section aria-label="Rates" className="mt-2">
      <p className="font-semibold">
        More pass than can be read one by one: the rates a minute, and the newest {READABLE}.
      </p>
      <table className="w-full text-[13px] tabular-nums">
        <thead className="sr-only">
          <tr>
            <th>endpoint</th>
            <th>requests a minute</th>
            <th>failures a minute</th>
          </tr>
        </thead>
        <tbody>
          {items.slice(0, RATES).map((item) => (
            <tr key={`${item.namespace} ${item.service} ${item.endpoint}`} className="border-line border-b">
              <td className="py-0.5 pr-3 break-words">
                <span className="text-faint">{item.service}</span> <span className="font-mono">{item.endpoint}</span>
              </td>
              <td className="w-2/5 py-0.5">
                <span className="flex items-center gap-2">
                  <span className="w-14 shrink-0 text-right">{count(Math.round(item.count / 2))}</span>
                  <span aria-hidden className="bg-layer-3 h-2.5" style={{ width: `${(80 * item.count) / most}%` }} />
                </span>
              </td>
              <td className={`w-24 py-0.5 text-right ${item.failed > 0 ? "text-brick" : "text-faint"}`}>
                {item.failed > 0 ? `${count(Math.max(1, Math.round(item.failed / 2)))} fail` : "none fails"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** Requests as they pass: those that are kept, and the rate of all. */
export function Passing() {
  const { search } = useScope();
  const { held } = useLive();
  const navigate = useNavigate({ from: "/traffic" });
  const only = search.only === "failed" || search.only === "slow" ? search.only : undefined;
  const scope = {
    ...(search.service ? { service: search.service } : {}),
    ...(search.environment ? { environment: search.environment } : {}),
  };
  const text = search.text || undefined;
  const requests = useQuery({
    ...reading("/api/v1/requests", {
      params: { query: { ...scope, ...(only && { only }), ...(text && { text }), since: SINCE, limit: 100 } },
    }),
    refetchInterval: held ? false : EVERY,
    placeholderData: (before) => before,
  });
  const rate = useQuery({
    ...reading("/api/v1/endpoints", { params: { query: { ...scope, since: SINCE, limit: 500 } } }),
    refetchInterval: held ? false : EVERY * 2,
    placeholderData: (before) => before,
  });
  if (requests.isPending) return <Skeleton isPage rows={10} />;
  if (requests.isLoadingError)
    return <Failed isPage what="What passes" error={requests.error} retry={() => void requests.refetch()} />;
  const { items, next } = requests.data;
  const all = rate.data?.items.reduce((sum, item) => sum + item.count, 0) ?? 0;
  const failed = rate.data?.items.reduce((sum, item) => sum + item.failed, 0) ?? 0;
  return (
    <>
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <Answer>
          {count(Math.round(all / 2))} requests a minute
          {failed > 0 ? (
            <>
              , <span className="text-brick">{count(Math.round(failed / 2))} of them fail</span>
            </>
          ) : (
            ", none fails"
          )}
          {held && <span className="text-ochre"> — held</span>}.
        </Answer>
        <div role="group" aria-label="Which requests" className="flex gap-2 text-[13px]">
          {([undefined, "failed", "slow"] as const).map((kind) => (
            <button
              key={kind ?? "all"}
              type="button"
              aria-pressed={only === kind}
              onClick={() => void navigate({ search: (now) => ({ ...now, only: kind }) })}
              className="border-line aria-pressed:bg-wash rounded-sm border px-2 py-0.5 aria-pressed:font-semibold"
            >
              {kind ?? "all kept"}
            </button>
          ))}
          <Input
            type="search"
            aria-label="Only requests with this text"
            placeholder="only with this text"
            defaultValue={text ?? ""}
            onChange={(value) => {
              const typed = value.trim();
              void navigate({ search: (now) => ({ ...now, text: typed || undefined }), replace: true });
            }}
            className="w-44"
          />
        </div>
      </div>
      <p className="text-faint mt-1">
        Failed and slow requests, answers of 4xx and 5xx, and one in 100 of the others, of the last two minutes; the
        button Hold above stops them.
      </p>
      {next && <Rates items={rate.data?.items ?? []} />}
      <ol className="mt-2 text-[13px] tabular-nums" aria-live="off">
        {items.slice(0, next ? READABLE : undefined).map((item) => (
          <li
            key={item.span_id}
            className="border-line grid gap-x-3 border-b py-1 md:grid-cols-[6rem_minmax(0,1fr)_4rem_6rem_6rem]"
          >
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
