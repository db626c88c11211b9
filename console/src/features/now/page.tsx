import { useEvery } from "../../api/live";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type NowEcho, type NowItem, type NowReport, reading } from "../../api/client";
import { clock, counted, percent } from "../../ui/format";
import { useHotkeys } from "../../ui/hotkeys";
import { Button, Heading } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { Ago } from "../../ui/time";
import { Fleet } from "./fleet";
import { WORDS } from "./words";

/** How wide the page is on a desk, in pixels. */
const DESK = 1_300;

/** What needs somebody now, and how every service is. */
export function NowPage() {
  const { service, environment, view } = useSearch({ from: "/inside/now" });
  const navigate = useNavigate();
  const isWall = view === "wall";
  const setWall = (isOn: boolean) =>
    void navigate({ to: "/now", search: (now) => ({ ...now, view: isOn ? "wall" : undefined }) });
  useHotkeys({ w: () => setWall(!isWall), ...(isWall && { Escape: () => setWall(false) }) });
  const query = { ...(service ? { service } : {}), ...(environment ? { environment } : {}) };
  const every = useEvery(10_000);
  const now = useQuery({ ...reading("/api/v1/now", { params: { query } }), refetchInterval: every });
  if (now.isPending) return <Skeleton isPage rows={9} />;
  if (now.isLoadingError)
    return <Failed isPage what="What needs attention" error={now.error} retry={() => void now.refetch()} />;
  const { sentence, items, handled, troubles } = now.data;
  return (
    // A wall is read from some metres away: what fits a desk fills it.
    <div style={isWall ? { zoom: Math.max(1, window.innerWidth / DESK) } : undefined}>
      <div className="flex items-start justify-between gap-4">
        <h1 className={`text-xl font-bold ${items.length + troubles.length === 0 ? "text-moss" : ""}`}>{sentence}</h1>
        <Button onClick={() => setWall(!isWall)} title={isWall ? "w or Escape" : "for a screen on the wall: w"}>
          {isWall ? "Leave the wall" : "Wall"}
        </Button>
      </div>
      <p className="text-faint mt-1">
        {requestsInWords(now.data)}
        {isWall && ` As of ${clock(now.dataUpdatedAt)}.`}
      </p>
      {troubles.map((trouble) => (
        <p key={trouble.name} className="text-ochre mt-2" role="status">
          <b>Outcrop’s own “{trouble.name}”</b>, since <Ago at={trouble.since} />: {trouble.says}.
        </p>
      ))}
      <Items items={items} label="What needs somebody" />
      <Older report={now.data} />
      <Fleet report={now.data} />
      {handled.length > 0 && (
        <section className="mt-5">
          <Heading note="taken, settled or quiet, and still occurring">Handled</Heading>
          <Items items={handled} label="Handled" />
        </section>
      )}
      {now.data.requests === 0 && (
        <p className="mt-4">
          <Link to="/connect">Connect a service</Link>, or look at <Link to="/errors">the errors</Link>.
        </p>
      )}
    </div>
  );
}

const requestsInWords = ({ requests, failed, services }: NowReport) =>
  requests > 0
    ? `${counted(requests, "request", "requests")} came in the last 15 minutes to ${counted(services, "service", "services")}; ${failed === 0 ? "none failed" : `${percent(failed / requests)} failed`}. Each endpoint is held against its own last seven days.`
    : "Once a service sends spans, this page says which endpoints fail or are slow against their own past.";

/** What was flagged hours ago and still occurs. */
function Older({ report: { older } }: { report: NowReport }) {
  if (older === 0) return null;
  return (
    <p className="text-faint mt-2 text-[13px]">
      <Link to="/errors" search={{ where: "open and (new or surging or returned)" }}>
        {counted(older, "error", "errors")}
      </Link>{" "}
      flagged more than four hours ago still {older === 1 ? "occurs" : "occur"}.
    </p>
  );
}

function Items({ items, label }: { items: NowItem[]; label: string }) {
  if (items.length === 0) return null;
  return (
    <ol aria-label={label} className="mt-3">
      {items.map((item) => (
        <Row key={`${item.kind} ${item.service} ${item.what} ${item.since}`} item={item} />
      ))}
    </ol>
  );
}

function Row({ item }: { item: NowItem }) {
  const { word, colour } = WORDS[item.kind] ?? { word: item.kind, colour: "" };
  return (
    <li className="border-line grid gap-x-5 border-b py-1.5 md:grid-cols-[6rem_5rem_minmax(0,1fr)_minmax(0,0.8fr)]">
      <Ago at={item.since} className="text-faint" />
      <b className={item.handled ? "text-faint" : colour}>{word}</b>
      <div className="min-w-0">
        <p>
          <span className="text-faint">{item.service}</span> <What of={item} />
        </p>
        {item.echoes.length > 0 && (
          <p className="text-faint text-[13px] break-words">
            with it:{" "}
            {item.echoes.map((echo, at) => (
              <span key={`${echo.service} ${echo.what}`} title={echo.why}>
                {at > 0 && ", "}
                {echo.service} <What of={echo} />
              </span>
            ))}
          </p>
        )}
      </div>
      <p className="text-[13px] break-words">
        {item.why}
        {item.handled && <span className="text-faint block">{item.handled}</span>}
      </p>
    </li>
  );
}

/** What is unwell, as a link to it. */
function What({ of }: { of: NowItem | NowEcho }) {
  const name = <span className="font-mono text-[0.93em] break-words">{of.what}</span>;
  return of.ref ? (
    <Link to="/errors/$ref" params={{ ref: of.ref }}>
      {name}
    </Link>
  ) : (
    <Link
      to="/traffic"
      search={{
        view: "requests",
        service: of.service,
        endpoint: of.what,
        only: of.kind === "slow" ? "slow" : "failed",
        since: "30m",
      }}
    >
      {name}
    </Link>
  );
}
