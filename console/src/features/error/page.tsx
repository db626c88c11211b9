import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import {
  type Choice,
  type ErrorDetail,
  type OccurrenceDetail,
  type TiedError,
  choose,
  useChosen,
  useError,
  useOccurrence,
  useTimeline,
  windowOf,
  reading,
} from "../../api/client";
import { againstInWords, count, counted, exact, percent, windowInWords } from "../../ui/format";
import { useHotkeys } from "../../ui/hotkeys";
import { Empty, Failed, Key, Skeleton } from "../../ui/states";
import { Strata } from "../../ui/strata";
import { Load } from "../../parts/load";
import { PredicateBox, narrowed, testOf } from "../../parts/predicate-box";
import { StandsOut, WhyOne } from "./common";
import { CloseUps } from "./close-ups";
import { Handling } from "./handling";
import { History } from "./history";
import { OccurrenceView } from "./occurrence";
import { Moved } from "./moved";
import { Users } from "./users";
import { Why } from "./why";
import { Answer, Button, Heading } from "../../ui/kit";
import { Ago } from "../../ui/time";

export function ErrorPage() {
  const { ref } = useParams({ from: "/inside/errors/$ref" });
  const search = useSearch({ from: "/inside/errors/$ref" });
  const navigate = useNavigate({ from: "/errors/$ref" });
  const error = useError(ref, search);
  const timeline = useTimeline(ref, search);
  const around = { service: error.data?.service, environment: search.environment, ...windowOf(search) };
  const place = Object.fromEntries(Object.entries(around).filter(([, value]) => value !== undefined)) as Record<
    string,
    string
  >;
  const marks = useQuery({
    ...reading("/api/v1/markers", { params: { query: { ...place, limit: 20 } } }),
    enabled: error.data !== undefined,
  });
  if (error.isPending) return <Skeleton isPage rows={10} />;
  if (error.isLoadingError)
    return <Failed isPage what={`The error ${ref}`} error={error.error} retry={() => void error.refetch()} />;
  const detail = error.data;
  const onWindow = (from: Date, to: Date) =>
    void navigate({ search: (now) => ({ ...now, from: from.toISOString(), to: to.toISOString() }) });
  const show = async (at: Date) => {
    const found = await choose(ref, { from: at.toISOString() }, { environment: search.environment });
    if (found) await navigate({ search: (now) => ({ ...now, occurrence: found }), hash: "occurrence" });
  };
  const narrow = (test: string) => void navigate({ search: (now) => ({ ...now, where: narrowed(now.where, test) }) });
  return (
    <article>
      <Headline detail={detail} />
      <p className="text-faint mt-1">
        <span className="font-mono">{detail.ref}</span> ·{" "}
        <Link to="/errors" search={{ ...search, service: detail.service, occurrence: undefined, q: undefined }}>
          {detail.service}
        </Link>{" "}
        · first <Ago at={detail.first_seen} /> in {detail.first_version} · last <Ago at={detail.last_seen} /> ·{" "}
        <Link to="/errors/$ref/occurrences" params={{ ref }} search={(now) => ({ ...now, occurrence: undefined })}>
          {counted(detail.count, "occurrence", "occurrences")}
        </Link>{" "}
        in {windowInWords(search)} ·{" "}
        {detail.against && search.against && (
          <>
            {count(detail.against.count)} {againstInWords(search.against)}
            {detail.against.change && (
              <b className={detail.against.change === "more" ? "text-brick" : "text-moss"}>
                {" "}
                ({detail.against.change} now)
              </b>
            )}{" "}
            ·{" "}
          </>
        )}
        {detail.users === 0 ? "no user named" : <a href="#users">{counted(detail.users, "user", "users")}</a>} ·{" "}
        {detail.uncaught ? "uncaught" : "caught"}, {detail.severity}
      </p>
      <Moved detail={detail} />
      {search.where && (
        <PredicateBox
          label="Narrow this error"
          placeholder="a predicate, or empty for all occurrences"
          value={search.where}
          onApply={(where) => void navigate({ search: (now) => ({ ...now, where }) })}
        />
      )}
      {/* What it is and whose it is side by side; on a phone whose it is comes first. */}
      <div className="grid grid-cols-[minmax(0,1fr)] gap-x-8 md:grid-cols-[minmax(0,1fr)_24rem]">
        <div className="min-w-0">
          {timeline.isPending && (
            <div className="bg-wash my-3 h-44 motion-safe:animate-pulse" role="status" aria-label="Loading the chart" />
          )}
          {timeline.isLoadingError && (
            <Failed what="The chart" error={timeline.error} retry={() => void timeline.refetch()} />
          )}
          {timeline.data &&
            (timeline.data.layers.length === 0 ? (
              <Empty title={`Neither occurrences nor requests in ${windowInWords(search)}.`}>
                <p>Choose a longer window above.</p>
              </Empty>
            ) : (
              <Strata
                timeline={timeline.data}
                service={detail.service}
                marks={marks.data?.items ?? []}
                onWindow={onWindow}
                onChoose={(at) => void show(at)}
              />
            ))}
          {search.from && (
            <p className="-mt-1 mb-2">
              <Link from="/errors/$ref" to="." search={(now) => ({ ...now, from: undefined, to: undefined })}>
                back to {windowInWords({ since: search.since })}
              </Link>
            </p>
          )}
          <StandsOut reference={ref} scope={search} narrow={narrow} />
          <Why detail={detail} />
        </div>
        <div className="min-w-0 max-md:order-first md:mt-3">
          <Handling detail={detail} />
          <CloseUps reference={detail.ref} />
          <Ties detail={detail} />
          <Seen detail={detail} />
          {detail.endpoints.length > 0 && <Endpoints detail={detail} />}
        </div>
      </div>
      <Occurrence reference={ref} environment={search.environment} chosen={search.occurrence} narrow={narrow} />
      <Load service={detail.service} environment={search.environment} window={windowOf(search)} />
      <div className="mt-6 grid grid-cols-[minmax(0,1fr)] gap-x-8 md:grid-cols-[minmax(0,1fr)_24rem]">
        <div className="min-w-0">
          <History reference={detail.ref} />
          {detail.users > 0 && <Users reference={detail.ref} scope={search} total={detail.users} />}
        </div>
        <section className="min-w-0">
          <Heading>Attention {detail.attention.score} of 100</Heading>
          <p className="py-1 text-[13px]">{detail.attention.reasons.join(" · ")}</p>
        </section>
      </div>
      <WhyOne reference={detail.ref} service={detail.service} />
    </article>
  );
}

function Headline({ detail }: { detail: ErrorDetail }) {
  return (
    <Answer>
      <span className="text-brick">{detail.lead}:</span> <span>{detail.title}</span>
      {detail.own_frame && (
        <span className="font-normal">
          {" "}
          in <code className="font-mono text-base">{detail.own_frame}</code>
        </span>
      )}
    </Answer>
  );
}

/** Where its failures began, and what followed from them. */
function Ties({ detail }: { detail: ErrorDetail }) {
  const list = (items: TiedError[]) => (
    <ul>
      {items.slice(0, 4).map((tied) => (
        <li key={tied.ref} className="border-line flex justify-between gap-3 border-b py-1">
          <span className="min-w-0 truncate">
            <span className="text-faint">{tied.service}</span>{" "}
            <Link to="/errors/$ref" params={{ ref: tied.ref }}>
              {tied.title}
            </Link>
          </span>
          <span className="text-faint shrink-0 text-[13px]">{counted(tied.count, "request", "requests")}</span>
        </li>
      ))}
    </ul>
  );
  if (detail.begins_in.length === 0 && detail.followed_by.length === 0) return null;
  return (
    <div className="mb-4 space-y-4">
      {detail.begins_in.length > 0 && (
        <section aria-label="Origin">
          <Heading>Origin: where these requests first failed</Heading>
          {list(detail.begins_in)}
        </section>
      )}
      {detail.followed_by.length > 0 && (
        <section aria-label="Echoes">
          <Heading>Echoes: what failed elsewhere because of it</Heading>
          {list(detail.followed_by)}
        </section>
      )}
    </div>
  );
}

/** The versions and environments it was seen in. */
function Seen({ detail }: { detail: ErrorDetail }) {
  return (
    <section className="mb-4">
      <Heading>By version and environment, of all time</Heading>
      <table className="w-full text-[13px]">
        <thead className="sr-only">
          <tr>
            <th>version</th>
            <th>environment</th>
            <th>occurrences</th>
            <th>first</th>
          </tr>
        </thead>
        <tbody>
          {detail.sightings.slice(0, 6).map((row) => (
            <tr key={`${row.version} ${row.environment}`} className="border-line border-b last:border-b-0">
              <td className="py-1 font-mono">{row.version}</td>
              <td>{row.environment}</td>
              <td className="text-right font-mono">
                <Link
                  to="/errors/$ref/occurrences"
                  params={{ ref: detail.ref }}
                  search={{ environment: row.environment, where: testOf("version", row.version), since: "30d" }}
                  aria-label={`${count(row.count)} occurrences in ${row.version}, ${row.environment}`}
                >
                  {count(row.count)}
                </Link>
              </td>
              <td className="text-faint text-right">
                first <Ago at={row.first_seen} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {detail.sightings.length > 6 && <p className="text-faint">and {detail.sightings.length - 6} more</p>}
    </section>
  );
}

/** The endpoints it occurs at, and which share of their requests fails with it. */
function Endpoints({ detail }: { detail: ErrorDetail }) {
  const search = useSearch({ from: "/inside/errors/$ref" });
  return (
    <>
      <Heading>Where it occurs</Heading>
      <ul className="mb-4 text-[13px]">
        {detail.endpoints.map((hit) => (
          <li
            key={hit.endpoint}
            className="border-line flex flex-wrap justify-between gap-x-3 border-b py-1 last:border-b-0"
          >
            <Link
              to="/traffic"
              search={{
                ...search,
                service: detail.service,
                view: "endpoints",
                endpoint: hit.endpoint,
                q: undefined,
                where: undefined,
                occurrence: undefined,
              }}
              className="min-w-0 font-mono break-all"
            >
              {hit.endpoint}
            </Link>
            <span className="text-faint">
              <Link
                to="/errors/$ref/occurrences"
                params={{ ref: detail.ref }}
                search={{ ...search, where: narrowed(search.where, testOf("endpoint", hit.endpoint)) }}
                className="underline"
              >
                {percent(hit.share)}
              </Link>{" "}
              of it
              {hit.request_share != null &&
                ` · ${percent(hit.request_share)} of ${counted(hit.requests, "request", "requests")} there`}
            </span>
          </li>
        ))}
      </ul>
      {detail.sampling && (
        <p className="text-faint -mt-3 mb-4 text-[13px]">
          {detail.service}: {detail.sampling}.
        </p>
      )}
    </>
  );
}

type OccurrenceProps = {
  reference: string;
  environment: string | undefined;
  chosen: string | undefined;
  narrow: (test: string) => void;
};

function Occurrence({ reference, environment, chosen, narrow }: OccurrenceProps) {
  const navigate = useNavigate({ from: "/errors/$ref" });
  const latest = useChosen(reference, chosen, environment);
  const id = latest.data?.id ?? undefined;
  const occurrence = useOccurrence(id);
  const go = async (choice: Choice) => {
    const found = await choose(reference, choice, { environment });
    if (found) await navigate({ search: (now) => ({ ...now, occurrence: found }), resetScroll: false });
  };
  const older = () => void (id && go({ older: id }));
  const newer = () => void (id && go({ newer: id }));
  const router = useNavigate();
  const trace = occurrence.data?.trace_id ?? undefined;
  const toTrace = () =>
    trace &&
    void router({
      to: "/traces/$id",
      params: { id: trace },
      search: occurrence.data?.span_id ? { span: occurrence.data.span_id } : {},
    });
  const toLines = () => trace && void router({ to: "/traffic", search: { view: "logs", trace, since: "7d" } });
  useHotkeys({ "[": older, "]": newer, t: toTrace, l: toLines });
  if (latest.isPending) return <Skeleton rows={6} />;
  if (latest.isLoadingError)
    return <Failed what="The occurrences" error={latest.error} retry={() => void latest.refetch()} />;
  if (!id) {
    return (
      <Empty title="No occurrence is kept any more.">
        <p>Occurrences are kept for 30 days; the counts above stay.</p>
      </Empty>
    );
  }
  return (
    <section id="occurrence" aria-label="One occurrence">
      <div className="border-line flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1 border-y py-1.5">
        <h2>
          <b>Occurrence {count(latest.data.position)}</b> of {count(latest.data.total)}
          {occurrence.data && <When occurrence={occurrence.data} />}
        </h2>
        <div className="flex flex-wrap gap-x-3 text-[13px]">
          <Step name="older" onClick={older} shortcut="[" />
          <Step name="newer" onClick={newer} shortcut="]" />
          <Step name="first" onClick={() => void go("first")} />
          <Step name="latest" onClick={() => void go("latest")} />
          <Step name="most complete" onClick={() => void go("fullest")} />
          {occurrence.data && <Versions reference={reference} go={go} />}
          {trace && <Step name="its trace" onClick={toTrace} shortcut="t" />}
          {trace && <Step name="its log lines" onClick={toLines} shortcut="l" />}
        </div>
      </div>
      {occurrence.isLoadingError && (
        <Failed what="The occurrence" error={occurrence.error} retry={() => void occurrence.refetch()} />
      )}
      {occurrence.isPending ? (
        <Skeleton rows={6} />
      ) : (
        occurrence.data && <OccurrenceView occurrence={occurrence.data} narrow={narrow} />
      )}
    </section>
  );
}

function When({ occurrence }: { occurrence: OccurrenceDetail }) {
  return (
    <>
      {" "}
      · <time dateTime={occurrence.at}>{exact(occurrence.at)}</time> · {occurrence.version}
      {occurrence.host && ` · ${occurrence.host}`}
      {occurrence.endpoint && <span className="font-mono text-[13px]"> · {occurrence.endpoint}</span>}
    </>
  );
}

function Step({ name, onClick, shortcut }: { name: string; onClick: () => void; shortcut?: string }) {
  return (
    <Button look="link" onClick={onClick}>
      {shortcut && (
        <>
          <Key>{shortcut}</Key>{" "}
        </>
      )}
      {name}
    </Button>
  );
}

/** One occurrence per version: the latest of each. */
function Versions({ reference, go }: { reference: string; go: (choice: Choice) => Promise<void> }) {
  const detail = useError(reference, {});
  const versions = [...new Set(detail.data?.sightings.map((row) => row.version) ?? [])].slice(0, 4);
  // In its only version the latest is the latest of all.
  if (versions.length < 2) return null;
  return versions.map((version) => <Step key={version} name={`in ${version}`} onClick={() => void go({ version })} />);
}
