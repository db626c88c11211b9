import { useEvery } from "../../api/live";
import { useQuery } from "@tanstack/react-query";
import { Link, useSearch } from "@tanstack/react-router";
import { type NowItem, reading } from "../../api/client";
import { counted, percent } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { Ago } from "../../ui/time";

const WORDS: Record<string, { word: string; colour: string }> = {
  failing: { word: "fails", colour: "text-brick" },
  slow: { word: "slow", colour: "text-ochre" },
  error: { word: "error up", colour: "text-brick" },
};

/** What needs attention now, what began last first. */
export function NowPage() {
  const { service, environment } = useSearch({ from: "/inside/now" });
  const query = { ...(service ? { service } : {}), ...(environment ? { environment } : {}) };
  const every = useEvery(10_000);
  const now = useQuery({ ...reading("/api/v1/now", { params: { query } }), refetchInterval: every });
  if (now.isPending) return <Skeleton isPage rows={6} />;
  if (now.isLoadingError)
    return <Failed isPage what="What needs attention" error={now.error} retry={() => void now.refetch()} />;
  const { sentence, items, requests, failed, services, troubles } = now.data;
  return (
    <>
      <h1 className={`text-xl font-bold ${items.length + troubles.length === 0 ? "text-moss" : ""}`}>{sentence}</h1>
      <p className="text-faint mt-1">
        {requests > 0
          ? `${counted(requests, "request", "requests")} came in the last 15 minutes to ${counted(services, "service", "services")}; ${failed === 0 ? "none failed" : `${percent(failed / requests)} failed`}. Each endpoint is held against its own last seven days.`
          : "Once a service sends spans, this page says which endpoints fail or are slow against their own past."}
      </p>
      {troubles.map((trouble) => (
        <p key={trouble.name} className="text-ochre mt-2" role="status">
          <b>Outcrop’s own “{trouble.name}”</b>, since <Ago at={trouble.since} />: {trouble.says}.
        </p>
      ))}
      {items.length > 0 && (
        <ol className="mt-4">
          {items.map((item) => (
            <Row key={`${item.kind} ${item.service} ${item.what} ${item.since}`} item={item} />
          ))}
        </ol>
      )}
      {requests === 0 && (
        <p className="mt-4">
          <Link to="/connect">Connect a service</Link>, or look at <Link to="/errors">the errors</Link>.
        </p>
      )}
    </>
  );
}

function Row({ item }: { item: NowItem }) {
  const { word, colour } = WORDS[item.kind] ?? { word: item.kind, colour: "" };
  const name = <span className="font-mono text-[13px] break-words">{item.what}</span>;
  return (
    <li className="border-line grid gap-x-5 border-b py-2 md:grid-cols-[7rem_6rem_minmax(0,1fr)]">
      <Ago at={item.since} className="text-faint" />
      <b className={colour}>{word}</b>
      <div className="min-w-0">
        <p>
          <span className="text-faint">{item.service}</span>{" "}
          {item.ref ? (
            <Link to="/errors/$ref" params={{ ref: item.ref }}>
              {name}
            </Link>
          ) : (
            <Link
              to="/traffic"
              search={{
                view: "requests",
                service: item.service,
                endpoint: item.what,
                only: item.kind === "slow" ? "slow" : "failed",
                since: "30m",
              }}
            >
              {name}
            </Link>
          )}
        </p>
        <p className="text-[13px] break-words">{item.why}</p>
      </div>
    </li>
  );
}
