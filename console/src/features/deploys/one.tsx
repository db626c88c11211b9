import { useEvery } from "../../api/live";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { type DeployDetail, type EndpointChange, reading } from "../../api/client";
import { agoInWords, count, counted, duration, percent } from "../../ui/format";
import { Code, Failed, Skeleton } from "../../ui/states";
import { Strata } from "../../ui/strata";
import { type Column, Table } from "../../ui/table";
import { AskedOverTime } from "../../parts/asked-over-time";
import { Load } from "../../parts/load";
import { testOf } from "../../parts/predicate-box";
import { COLOUR, Flag, Markers } from "./page";
import { Answer, Heading } from "../../ui/kit";
import { Ago } from "../../ui/time";

const WORSE = ["fails more", "slower"];

/** One deploy: its answer, its endpoints before and after, its versions over time, what it brought, what got better. */
export function DeployPage() {
  const { service, version } = useParams({ from: "/inside/deploys/$service/$version" });
  const { environment } = useSearch({ from: "/inside/deploys/$service/$version" });
  const query = { service, version, environment: environment ?? "production" };
  const every = useEvery(15_000);
  const deploy = useQuery({ ...reading("/api/v1/deploys/one", { params: { query } }), refetchInterval: every });
  if (deploy.isPending) return <Skeleton isPage rows={9} />;
  if (deploy.isLoadingError)
    return (
      <Failed
        isPage
        what={`The deploy of ${service} ${version} into ${query.environment}`}
        error={deploy.error}
        retry={() => void deploy.refetch()}
      />
    );
  return <Shown detail={deploy.data} />;
}

/** Which share of the requests failed, and how long they took, of each version before and after. */
function Courses({ detail: { deploy, versions } }: { detail: DeployDetail }) {
  const navigate = useNavigate();
  const [from, to] = [versions.from, new Date(Date.parse(versions.from) + versions.step_ms * versions.count)];
  const where = `${testOf("service", deploy.service)} and ${testOf("environment", deploy.environment)}`;
  const each = `each ${Math.max(1, Math.round(versions.step_ms / 60_000))}m order by version top 4 from ${from} to ${to.toISOString()}`;
  const onWindow = (from: Date, to: Date) =>
    void navigate({
      to: "/traffic",
      search: {
        service: deploy.service,
        environment: deploy.environment,
        from: from.toISOString(),
        to: to.toISOString(),
      },
    });
  return (
    <div className="mb-4 grid grid-cols-[minmax(0,1fr)] gap-x-8 md:grid-cols-2">
      <section aria-label="Failures by version" className="min-w-0">
        <Heading note="of the requests of each version">Share that failed</Heading>
        <AskedOverTime
          question={`share of requests by version where ${where} ${each}`}
          label="share of requests that failed"
          what="The share of failures by version"
          addUp={false}
          shown={(value) => percent(value ?? 0)}
          onWindow={onWindow}
        />
      </section>
      <section aria-label="Durations by version" className="min-w-0">
        <Heading note="95 % of the requests of each version stay within it">How long they took</Heading>
        <AskedOverTime
          question={`p95 duration of requests by version where ${where} ${each}`}
          label="time that 95 % stay within"
          what="The durations by version"
          addUp={false}
          shown={(value) => duration(value ?? 0)}
          onWindow={onWindow}
        />
      </section>
    </div>
  );
}

function Shown({ detail }: { detail: DeployDetail }) {
  const navigate = useNavigate();
  const { deploy, endpoints, stopped, versions, markers, commits } = detail;
  const { check } = deploy;
  const layers = layersOf(detail);
  const share = (sums: { requests: number; failed: number }) =>
    sums.requests === 0
      ? "no requests"
      : `${percent(sums.failed / sums.requests)} of ${counted(sums.requests, "request", "requests")} failed`;
  const changed = endpoints.filter((item) => item.changes.length > 0).length;
  const differing = detail.beside.filter((item) => item.changes.length > 0).length;
  return (
    <article>
      <Answer>
        <span className={COLOUR[check.outcome] ?? ""}>{check.outcome}</span>: {check.sentence}
      </Answer>
      <p className="text-faint mt-1">
        <Ago at={deploy.at} /> · {deploy.announced ? `announced by ${deploy.by}` : "seen from its first telemetry"} ·{" "}
        {deploy.runs ? "runs" : "does not run any more"}
        {" · "}
        <Link
          to="/sheet-of/$service/$version"
          params={{ service: deploy.service, version: deploy.version }}
          search={{ environment: deploy.environment }}
        >
          Sheet of this deploy
        </Link>
        {deploy.rollback && " · rollback: it had run here before"}
        {deploy.share != null && ` · canary of ${percent(deploy.share)}`}
        {deploy.instance_group && ` · to the instances of group ${deploy.instance_group}`}
        {deploy.revision && (
          <>
            {" "}
            · commit <code>{deploy.revision.slice(0, 12)}</code>
          </>
        )}
        {deploy.link && (
          <>
            {" "}
            ·{" "}
            <a href={deploy.link} rel="noreferrer noopener">
              pipeline
            </a>
          </>
        )}{" "}
        · {share(check.after)} in {check.after.minutes} min since, {share(check.before)} in {check.before.minutes} min
        before
      </p>
      {check.rates && <p className="text-faint mt-1">{check.rates}</p>}
      {layers.length > 0 && (
        <Strata
          timeline={{
            from: versions.from,
            to: new Date(Date.parse(versions.from) + versions.step_ms * versions.count).toISOString(),
            step_ms: versions.step_ms,
            layers,
          }}
          service={deploy.service}
          marks={markers}
          onWindow={(from, to) =>
            void navigate({
              to: "/errors",
              search: {
                service: deploy.service,
                environment: deploy.environment,
                from: from.toISOString(),
                to: to.toISOString(),
              },
            })
          }
        />
      )}
      <Courses detail={detail} />
      {check.flags.length > 0 && (
        <section aria-label="Flags" className="mb-5">
          <Heading>New, surging or back since this deploy</Heading>
          <ul>
            {check.flags.map((flag) => (
              <Flag key={`${flag.flag} ${flag.ref}`} flag={flag} />
            ))}
          </ul>
        </section>
      )}
      {check.first_seen.length > 0 && (
        <section aria-label="First seen in it" className="mb-5">
          <Heading>
            First seen in this version
            <span className="text-faint ml-2 font-normal">
              its service was known for less than 30 minutes then, too short to call an error new
            </span>
          </Heading>
          <ul>
            {check.first_seen.map((error) => (
              <li key={error.ref} className="border-line border-b py-1 break-words">
                <Link to="/errors/$ref" params={{ ref: error.ref }}>
                  {error.title}
                </Link>{" "}
                <span className="text-faint">{counted(error.count, "occurrence", "occurrences")}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {check.settled.length > 0 && (
        <section aria-label="Settled in it" className="mb-5">
          <Heading>Settled in this version</Heading>
          <ul>
            {check.settled.map((error) => (
              <li key={error.ref} className="border-line border-b py-1 break-words">
                <Link to="/errors/$ref" params={{ ref: error.ref }}>
                  {error.title}
                </Link>
                <p className="text-faint">{error.verdict.sentence}</p>
              </li>
            ))}
          </ul>
        </section>
      )}
      {check.withdrawn.length > 0 && (
        <section aria-label="Taken back" className="mb-5">
          <Heading>
            Taken back<span className="text-faint ml-2 font-normal">late data showed that these flags were wrong</span>
          </Heading>
          <ul>
            {check.withdrawn.map((flag) => (
              <li
                key={`${flag.flag} ${flag.ref} ${flag.said_at}`}
                className="border-line text-faint border-b py-1 break-words"
              >
                <span className="line-through">{flag.flag}</span>{" "}
                <Link to="/errors/$ref" params={{ ref: flag.ref }}>
                  {flag.title}
                </Link>
                , {flag.withdrawn_at && agoInWords(flag.withdrawn_at)}
              </li>
            ))}
          </ul>
        </section>
      )}
      {detail.beside_what && (
        <section aria-label="Against the rest" className="mb-5">
          <Heading>
            {differing === 0
              ? "Side by side, nothing is shown to differ"
              : `Side by side, ${counted(differing, "endpoint", "endpoints")} of ${detail.beside.length} ${differing === 1 ? "differs" : "differ"}`}
            <span className="text-faint ml-2 font-normal">{detail.beside_what}</span>
          </Heading>
          {detail.beside.length === 0 ? (
            <p className="text-faint py-1">Neither side has served a request yet.</p>
          ) : (
            <EndpointTable items={detail.beside} detail={detail} rest="the rest" />
          )}
        </section>
      )}
      <section aria-label="Endpoints" className="mb-5">
        <Heading>
          {endpoints.length === 0
            ? "No request has come to it yet"
            : changed === 0
              ? `None of ${counted(endpoints.length, "endpoint", "endpoints")} is shown to have changed`
              : `${counted(changed, "endpoint", "endpoints")} of ${endpoints.length} changed`}
          <span className="text-faint ml-2 font-normal">
            compared with all requests of the day before; false-alarm rate 1 in 10,000
          </span>
        </Heading>
        {endpoints.length > 0 && <EndpointTable items={endpoints} detail={detail} rest="before" />}
      </section>
      <div className="grid gap-x-8 md:grid-cols-2">
        <section aria-label="Improvements" className="mb-5">
          <Heading>Improvements</Heading>
          {stopped.length === 0 && <p className="text-faint py-1">No error of the day before has stopped.</p>}
          <ul>
            {stopped.slice(0, 8).map((error) => (
              <li key={error.ref} className="border-line border-b py-1 break-words">
                <Link to="/errors/$ref" params={{ ref: error.ref }}>
                  {error.title}
                </Link>{" "}
                <span className="text-faint text-[13px]">
                  {counted(error.count, "occurrence", "occurrences")} in the day before, none since
                </span>
              </li>
            ))}
          </ul>
        </section>
        <section aria-label="Commits of this deploy" className="mb-5">
          <Heading>Commits of this deploy</Heading>
          {commits == null ? (
            <>
              <p className="text-faint py-1">Its pipeline did not say. It can, with the repository at hand:</p>
              <Code label="Record a deploy with its commits">{`outcrop deploy record ${deploy.service}@${deploy.version} --environment ${deploy.environment} --repo . --from REVISION`}</Code>
            </>
          ) : (
            <ul>
              {commits.slice(0, 12).map((commit) => (
                <li key={commit.id} className="border-line border-b py-1 break-words">
                  <code>{commit.id.slice(0, 10)}</code> {commit.summary}{" "}
                  <span className="text-faint text-[13px]">
                    by {commit.author}, {counted(commit.files, "file", "files")}
                  </span>
                  {commit.touches.map((touch) => (
                    <p key={touch.ref} className="text-brick text-[13px]">
                      touches{" "}
                      <Link to="/errors/$ref" params={{ ref: touch.ref }}>
                        {touch.ref}
                      </Link>{" "}
                      at {touch.path}:{touch.line}
                      {touch.distance === 0
                        ? ", the very line"
                        : touch.distance == null
                          ? ""
                          : `, ${touch.distance} lines away`}
                      {touch.owners.length > 0 && ` · owned by ${touch.owners.join(", ")}`}
                    </p>
                  ))}
                </li>
              ))}
              {commits.length > 12 && <li className="text-faint py-1">and {commits.length - 12} more</li>}
              {commits.length === 0 && <li className="text-faint py-1">No commit.</li>}
            </ul>
          )}
        </section>
      </div>
      {markers.length > 0 && <Markers items={markers} />}
      <Load
        service={deploy.service}
        environment={deploy.environment}
        window={{
          from: versions.from,
          to: new Date(Date.parse(versions.from) + versions.step_ms * versions.count).toISOString(),
        }}
      />
    </article>
  );
}

function layersOf({ versions: { from, step_ms, steps, count: length } }: DeployDetail) {
  return [...new Set(steps.map((step) => step.version))].map((version) => {
    const [requests, occurrences] = [new Array<number>(length).fill(0), new Array<number>(length).fill(0)];
    const own = steps.filter((step) => step.version === version);
    for (const step of own) {
      const at = Math.round((Date.parse(step.at) - Date.parse(from)) / step_ms);
      requests[at] = (requests[at] ?? 0) + step.requests;
      occurrences[at] = (occurrences[at] ?? 0) + step.failed;
    }
    const first = own[0]?.at ?? from;
    return {
      version,
      requests,
      occurrences,
      first_seen: Date.parse(first) === Date.parse(from) ? new Date(0).toISOString() : first,
    };
  });
}

type TableProps = { items: EndpointChange[]; detail: DeployDetail; rest: string };

const millis = (value: number | null | undefined) => (value == null ? "—" : duration(value));
const share = (failed: number, requests: number) => (requests === 0 ? null : failed / requests);
const shareInWords = (failed: number, requests: number) => {
  const known = share(failed, requests);
  return known === null ? "—" : known === 0 ? "0" : percent(known);
};

/** What each endpoint did, and what it did elsewhere: before, or on the other instances. */
function EndpointTable({ items, detail, rest }: TableProps) {
  const columns: Column<EndpointChange>[] = [
    {
      name: "endpoint",
      isCode: true,
      value: (item) => item.endpoint,
      cell: (item) => (
        <Link to="/traffic" search={{ view: "endpoints", service: detail.deploy.service, endpoint: item.endpoint }}>
          {item.endpoint}
        </Link>
      ),
    },
    { name: "requests", isNumber: true, value: (item) => item.requests, cell: (item) => count(item.requests) },
    {
      name: "failed",
      isNumber: true,
      value: (item) => share(item.failed, item.requests),
      cell: (item) => shareInWords(item.failed, item.requests),
    },
    {
      name: `failed, ${rest}`,
      isNumber: true,
      value: (item) => share(item.failed_before, item.requests_before),
      cell: (item) => <span className="text-faint">{shareInWords(item.failed_before, item.requests_before)}</span>,
    },
    { name: "p95", isNumber: true, value: (item) => item.p95_ms, cell: (item) => millis(item.p95_ms) },
    {
      name: `p95, ${rest}`,
      isNumber: true,
      value: (item) => item.p95_before_ms,
      cell: (item) => <span className="text-faint">{millis(item.p95_before_ms)}</span>,
    },
    {
      name: "what changed",
      value: (item) => item.changes.join(", ") || null,
      cell: ({ changes }) =>
        changes.length === 0 ? (
          <span className="text-faint">nothing shown</span>
        ) : (
          changes.map((change) => (
            <span key={change} className={`mr-2 font-semibold ${WORSE.includes(change) ? "text-brick" : "text-moss"}`}>
              {change}
            </span>
          ))
        ),
    },
  ];
  return <Table label={`Endpoints against ${rest}`} columns={columns} rows={items} keyOf={(item) => item.endpoint} />;
}
