import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type ErrorDetail, reading } from "../../api/client";
import { agoInWords } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { Heading } from "../../ui/kit";
import { Ago } from "../../ui/time";

/** Why the error is there: the evidence in order, then what was flagged and when. */
export function Why({ detail }: { detail: ErrorDetail }) {
  const why = useQuery({
    ...reading("/api/v1/errors/{ref}/why", { params: { path: { ref: detail.ref } } }),
    staleTime: 30_000,
  });
  return (
    <section aria-label="Why it occurs" className="mb-5">
      <Heading>Why it occurs</Heading>
      {why.isPending && <Skeleton rows={2} />}
      {why.isLoadingError && <Failed what="The evidence" error={why.error} retry={() => void why.refetch()} />}
      {why.data && (
        <>
          <ol className="list-decimal pl-6">
            {why.data.sentences.map((sentence) => (
              <li key={sentence.text} className="marker:text-faint py-0.5 break-words">
                {sentence.ref ? (
                  <Link to="/errors/$ref" params={{ ref: sentence.ref }}>
                    {sentence.text}
                  </Link>
                ) : (
                  sentence.text
                )}
              </li>
            ))}
          </ol>
          {why.data.touches.length > 1 && (
            <p className="text-faint text-[13px]">
              Also near its frames:{" "}
              {why.data.touches.slice(1, 4).map((touch, at) => (
                <span key={touch.commit}>
                  {at > 0 && ", "}
                  <code>{touch.commit.slice(0, 10)}</code> by {touch.author}, {touch.path}:{touch.line}
                </span>
              ))}
            </p>
          )}
          {why.data.owners.length > 0 && (
            <p className="text-faint text-[13px]">The code is owned by {why.data.owners.join(", ")}.</p>
          )}
          {why.data.steps.length > 0 && (
            <>
              <h3 className="mt-2 font-semibold">Next</h3>
              <ul className="list-disc pl-6">
                {why.data.steps.map((step) => (
                  <li key={step.text} className="marker:text-faint py-0.5 break-words">
                    {step.link ? <a href={step.link}>{step.text}</a> : step.text}{" "}
                    {!step.link && step.command && (
                      <code className="font-mono text-[13px] [overflow-wrap:anywhere]">{step.command}</code>
                    )}
                  </li>
                ))}
              </ul>
            </>
          )}
          {detail.flagged.slice(0, 4).map((flag) => (
            <p key={`${flag.flag} ${flag.said_at}`} className="text-faint text-[13px]">
              <span className={flag.withdrawn_at ? "line-through" : "text-brick font-semibold"}>{flag.flag}</span> in{" "}
              {flag.environment},{" "}
              {flag.flag === "surging" && !flag.by_deploy ? (
                "without a deploy"
              ) : (
                <Link
                  to="/deploys/$service/$version"
                  params={{ service: flag.service, version: flag.version }}
                  search={{ environment: flag.environment }}
                >
                  {flag.service} {flag.version}
                </Link>
              )}
              , flagged <Ago at={flag.said_at} />
              {flag.flag === "surging" && `: ${flag.evidence}`}
              {flag.withdrawn_at &&
                `; taken back ${agoInWords(flag.withdrawn_at)}: data that came late showed that it was none`}
              {flag.ended_at && `; ended ${agoInWords(flag.ended_at)}`}
            </p>
          ))}
        </>
      )}
    </section>
  );
}
