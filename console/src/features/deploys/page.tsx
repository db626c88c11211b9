import { useEvery } from "../../api/live";
import { useQuery } from "@tanstack/react-query";
import { Link, useSearch } from "@tanstack/react-router";
import { type DeployItem, type FlagItem, type MarkerItem, windowOf, reading } from "../../api/client";
import { agoInWords, count, counted, percent, windowInWords } from "../../ui/format";
import { Code, Empty, Failed, Skeleton } from "../../ui/states";
import { Answer, Heading } from "../../ui/kit";
import { Ago } from "../../ui/time";

export const COLOUR: Record<string, string> = { flagged: "text-brick", "too early": "text-ochre", clear: "text-moss" };

/** Was it the deploy? Every deploy with its answer. */
export function DeploysPage() {
  const search = useSearch({ from: "/inside/deploys" });
  const given = search.since || search.from ? windowOf(search) : { since: "7d" };
  const query = Object.fromEntries(
    Object.entries({ service: search.service, environment: search.environment, ...given }).filter(
      ([, value]) => value !== undefined,
    ),
  ) as Record<string, string>;
  const every = useEvery(15_000);
  const deploys = useQuery({
    ...reading("/api/v1/deploys", { params: { query: { ...query, limit: 100 } } }),
    refetchInterval: every,
  });
  if (deploys.isPending) return <Skeleton isPage rows={9} />;
  if (deploys.isLoadingError)
    return <Failed isPage what="The deploys" error={deploys.error} retry={() => void deploys.refetch()} />;
  const items = deploys.data.items;
  const when = search.since || search.from ? windowInWords(search) : "the last 7 days";
  if (items.length === 0) {
    return (
      <>
        <h1 className="sr-only">Deploys</h1>
        <Empty title={`No deploy in ${when}.`}>
          <p>
            A version that sends for the first time is a deploy. A pipeline can announce it, with who, why and when:
          </p>
          <Code label="Announce a deploy">
            outcrop deploy record fares@2.4.0 --environment production --link https://ci.skerry.example/4110
          </Code>
        </Empty>
      </>
    );
  }
  const flagged = items.filter((item) => item.check.outcome === "flagged");
  const [worst] = flagged;
  return (
    <>
      <Answer>
        {worst ? (
          <>
            <span className="text-brick">{worst.check.sentence}</span>{" "}
            {flagged.length > 1 &&
              `${count(flagged.length)} of ${counted(items.length, "deploy", "deploys")} are flagged.`}
          </>
        ) : (
          `None of ${counted(items.length, "deploy", "deploys")} is flagged.`
        )}
      </Answer>
      <p className="text-faint mt-1">
        In {when}. Announced by a pipeline, or seen from a version's first telemetry. A deploy is flagged by errors that
        are new, surging or back since it, for 24 hours.
      </p>
      <ol className="mt-3">
        {items.map((item) => (
          <Row key={`${item.service} ${item.version} ${item.environment} ${item.at}`} item={item} />
        ))}
      </ol>
      <MarkedChanges query={query} />
      <p className="text-faint mt-3">In a pipeline:</p>
      <Code label="Wait for the answer">outcrop deploy check fares@2.4.0 --environment production --wait 30m</Code>
    </>
  );
}

function Row({ item }: { item: DeployItem }) {
  const { check } = item;
  const share = (sums: { requests: number; failed: number }) =>
    sums.requests === 0 ? "no requests" : `${percent(sums.failed / sums.requests)} of ${count(sums.requests)} failed`;
  return (
    <li className="border-line border-b py-2">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <Ago at={item.at} className="text-faint w-24 shrink-0" />
        <Link
          to="/deploys/$service/$version"
          params={{ service: item.service, version: item.version }}
          search={{ environment: item.environment }}
          className="font-semibold"
        >
          {item.service} <span className="font-mono">{item.version}</span>
        </Link>
        <span className="text-faint">
          {item.environment}
          {item.share != null && `, canary of ${percent(item.share)}`}
          {item.instance_group && `, to group ${item.instance_group}`}
          {item.rollback && ", rollback"}
          {item.runs ? ", runs" : ""}
        </span>
        <span className={`font-semibold ${COLOUR[check.outcome] ?? ""}`}>{check.outcome}</span>
        <span className="text-faint ml-auto text-[13px] tabular-nums">
          {share(check.after)} since, {share(check.before)} before
        </span>
      </div>
      {check.outcome !== "flagged" && (
        <p className="text-faint pl-28 text-[13px]">{check.sentence.split(": ").slice(1).join(": ")}</p>
      )}
      {check.flags.length > 0 && (
        <ul className="pl-28">
          {check.flags.slice(0, 5).map((flag) => (
            <Flag key={`${flag.flag} ${flag.ref}`} flag={flag} />
          ))}
          {check.flags.length > 5 && <li className="text-faint text-[13px]">and {check.flags.length - 5} more</li>}
        </ul>
      )}
      {check.withdrawn.length > 0 && (
        <p className="text-faint pl-28 text-[13px]">
          {counted(check.withdrawn.length, "flag was", "flags were")} taken back: data that came late showed that{" "}
          {check.withdrawn.length === 1 ? "it was" : "they were"} none.
        </p>
      )}
      <p className="text-faint pl-28 text-[13px]">
        {item.announced ? `announced by ${item.by}` : "seen from its first telemetry"}
        {item.revision && (
          <>
            , commit <span className="font-mono">{item.revision.slice(0, 12)}</span>
          </>
        )}
        {item.link && (
          <>
            ,{" "}
            <a href={item.link} rel="noreferrer noopener">
              pipeline
            </a>
          </>
        )}
      </p>
    </li>
  );
}

/** Changes that are no deploys, each with what happened after it. */
function MarkedChanges({ query }: { query: Record<string, string> }) {
  const markers = useQuery(reading("/api/v1/markers", { params: { query: { ...query, limit: 50 } } }));
  if (markers.isPending) return <Skeleton rows={2} />;
  if (markers.isLoadingError)
    return <Failed what="The marked changes" error={markers.error} retry={() => void markers.refetch()} />;
  if (markers.data.items.length > 0) return <Markers items={markers.data.items} />;
  return (
    <>
      <p className="text-faint mt-5">
        No other change was marked. A database upgrade, a switched setting, a moved machine is marked and checked the
        same way:
      </p>
      <Code label="Mark a change">
        outcrop marker record 'database upgraded to 17' --kind database --environment production
      </Code>
    </>
  );
}

export function Markers({ items }: { items: MarkerItem[] }) {
  return (
    <section aria-label="Other changes" className="mt-5">
      <Heading>Other changes</Heading>
      <ol>
        {items.map((item) => (
          <li key={item.id} className="border-line border-b py-2">
            <div className="flex flex-wrap items-baseline gap-x-4">
              <Ago at={item.at} className="text-faint w-24 shrink-0" />
              <span className="font-semibold break-words">{item.title}</span>
              <span className="text-faint">
                {item.kind}, {[item.service, item.environment].filter(Boolean).join(" in ") || "may touch everything"}
              </span>
              <span className={`font-semibold ${COLOUR[item.check.outcome] ?? ""}`}>{item.check.outcome}</span>
            </div>
            <p className="text-faint pl-28 text-[13px]">
              {item.check.sentence} Marked by {item.by}
              {item.link && (
                <>
                  ,{" "}
                  <a href={item.link} rel="noreferrer noopener">
                    more
                  </a>
                </>
              )}
              .
            </p>
            <ul className="pl-28">
              {item.check.flags.slice(0, 5).map((flag) => (
                <Flag key={`${flag.flag} ${flag.ref}`} flag={flag} />
              ))}
            </ul>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** A flag with its evidence. */
export function Flag({ flag }: { flag: FlagItem }) {
  return (
    <li className="py-0.5">
      <span className="text-brick font-semibold">{flag.flag}</span>{" "}
      <Link to="/errors/$ref" params={{ ref: flag.ref }} className="break-words">
        {flag.title}
      </Link>{" "}
      <span className="text-faint text-[13px]">
        {flag.evidence}
        {flag.ended_at && `; ended ${agoInWords(flag.ended_at)}`}
      </span>
      {flag.why.length > 0 && (
        <ul aria-label="Why" className="ml-4 list-disc pl-3 text-[13px]">
          {flag.why.map((sentence) => (
            <li key={sentence} className="break-words">
              {sentence}
            </li>
          ))}
        </ul>
      )}
    </li>
  );
}
