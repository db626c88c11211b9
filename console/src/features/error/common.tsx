import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Scope, windowOf, reading } from "../../api/client";
import { count, counted, percent } from "../../ui/format";
import { Failed } from "../../ui/states";
import { DropError } from "../../parts/drop-error";
import { Regroup } from "./regroup";
import { Button, Heading } from "../../ui/kit";

/** Findings shown before "all". */
const SHOWN = 5;

/** What the occurrences have in common against the service's requests, and every attribute's values. */
export function StandsOut({
  reference,
  scope,
  narrow,
}: {
  reference: string;
  scope: Scope;
  narrow: (test: string) => void;
}) {
  const query = { environment: scope.environment, ...windowOf(scope), where: scope.where };
  const common = useQuery({
    ...reading("/api/v1/errors/{ref}/stands-out", { params: { path: { ref: reference }, query } }),
    placeholderData: (before) => before,
    staleTime: 10_000,
  });
  const [open, setOpen] = useState(false);
  if (common.isPending)
    return (
      <div className="bg-wash mb-5 h-24 motion-safe:animate-pulse" role="status" aria-label="Loading what stands out" />
    );
  if (common.isLoadingError)
    return <Failed what="What stands out" error={common.error} retry={() => void common.refetch()} />;
  const { stands_out: findings, rhythm, not_compared: reason, attributes, occurrences, requests } = common.data;
  if (occurrences === 0) return null;
  return (
    <section className="mb-5" aria-label="Stands out">
      <Heading>
        Stands out{" "}
        <span className="text-faint font-normal">
          {counted(occurrences, "occurrence", "occurrences")} against{" "}
          {counted(requests, "sampled request", "sampled requests")}
        </span>
      </Heading>
      <ul>
        {rhythm && <li className="border-line border-b py-1.5 font-semibold">It comes {rhythm}.</li>}
        {findings.slice(0, SHOWN).map((finding) => (
          <li
            key={`${finding.name} ${finding.value}`}
            className="border-line grid grid-cols-[1fr_auto] items-baseline gap-x-4 border-b py-1.5 md:grid-cols-[1fr_12rem_5rem]"
          >
            <span className="min-w-0 [overflow-wrap:anywhere]">{finding.sentence}</span>
            <Shares share={finding.share} usual={finding.usual_share} />
            {finding.where ? (
              <button
                type="button"
                className="text-accent text-right text-[13px] hover:underline"
                aria-label={`Only where ${finding.name} is ${finding.value}`}
                onClick={() => finding.where && narrow(finding.where)}
              >
                only these
              </button>
            ) : (
              <span />
            )}
          </li>
        ))}
      </ul>
      {findings.length === 0 && !rhythm && (
        <p className="text-faint py-1.5">
          {reason ? `${reason}.` : "No value is more frequent here than in the service's requests."}
        </p>
      )}
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="text-accent py-1 text-[13px] hover:underline"
      >
        {open
          ? "hide the attributes"
          : `all ${counted(attributes.length, "attribute", "attributes")} of these occurrences`}
      </button>
      {open && (
        <div className="grid gap-x-8 md:grid-cols-2">
          {attributes.map((attribute) => (
            <div key={attribute.name} className="border-line border-b py-1.5 text-[13px]">
              <p className="text-faint font-mono break-words">
                {attribute.name}{" "}
                <span className="font-sans">{attribute.kinds > 1 && `${count(attribute.kinds)} values`}</span>
              </p>
              {attribute.values.slice(0, 4).map((value) => (
                <p key={value.value} className="flex items-baseline gap-x-3">
                  <span className="text-faint w-14 shrink-0 text-right font-mono">
                    {percent(value.count / occurrences)}
                  </span>
                  {value.where ? (
                    <button
                      type="button"
                      className="text-accent min-w-0 text-left font-mono [overflow-wrap:anywhere] hover:underline"
                      onClick={() => value.where && narrow(value.where)}
                    >
                      <bdi>{value.value}</bdi>
                    </button>
                  ) : (
                    <span className="font-mono">{value.value}</span>
                  )}
                </p>
              ))}
            </div>
          ))}
        </div>
      )}
    </section>
  );
}

/** The share of occurrences over the usual share, as two bars. */
function Shares({ share, usual }: { share: number; usual: number }) {
  return (
    <span className="hidden w-48 md:block" aria-hidden="true">
      <span className="bg-brick block h-1.5" style={{ width: `${Math.max(1, share * 100)}%` }} />
      <span className="bg-layer-4 mt-0.5 block h-1.5" style={{ width: `${Math.max(1, usual * 100)}%` }} />
    </span>
  );
}

/** Why the occurrences are one error, opened on demand. */
export function WhyOne({ reference, service }: { reference: string; service: string }) {
  const [open, setOpen] = useState(false);
  const explanation = useQuery({
    ...reading("/api/v1/errors/{ref}/explanation", { params: { path: { ref: reference } } }),
    enabled: open,
    staleTime: 60_000,
  });
  return (
    <div className="mb-4">
      <Button look="link" aria-expanded={open} onClick={() => setOpen(!open)} className="text-[13px]">
        {open ? "hide why these are one error" : "why are these one error?"}
      </Button>
      {open && explanation.isLoadingError && (
        <Failed what="The explanation" error={explanation.error} retry={() => void explanation.refetch()} />
      )}
      {open && explanation.data && (
        <div className="border-line bg-sheet mt-1 border-l-4 px-4 py-2 text-[13px]">
          <p className="font-semibold">{explanation.data.sentence}</p>
          <div className="mt-1 grid gap-x-8 md:grid-cols-2">
            <div>
              <h3 className="font-semibold">Counted</h3>
              <ol>
                {explanation.data.counted.map((part, at) => (
                  <li key={at} className="flex gap-x-3">
                    <span className="text-faint w-16 shrink-0">{part.kind}</span>
                    <code className="font-mono [overflow-wrap:anywhere]">{part.text}</code>
                  </li>
                ))}
              </ol>
            </div>
            <div>
              <h3 className="font-semibold">Left out</h3>
              <ul>
                {explanation.data.ignored.map((reason) => (
                  <li key={reason}>{reason}</li>
                ))}
              </ul>
            </div>
          </div>
          <Regroup reference={reference} service={service} />
          <DropError reference={reference} />
        </div>
      )}
    </div>
  );
}
