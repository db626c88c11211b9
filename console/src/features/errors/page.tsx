import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { type ErrorItem, type ListPart, type Sentence, useErrors, useMayAct, useTraffic } from "../../api/client";
import { handled } from "../../parts/handling-in-words";
import { againstInWords, ago, count, counted, percent, windowInWords } from "../../ui/format";
import { useHotkeys } from "../../ui/hotkeys";
import { Code, Empty, Failed, Key, Skeleton } from "../../ui/states";
import { Strip } from "../../ui/strata";
import { PredicateBox, narrowed } from "../../parts/predicate-box";
import { Bulk } from "./bulk";
import { Slices } from "./slices";
import { Answer } from "../../ui/kit";
import { Ago } from "../../ui/time";

const PARTS: Record<ListPart, string> = {
  from_deploy: "From a deploy",
  rising: "Rising without one",
  known: "Known",
  handled: "Settled or quiet",
};

const requestsInWords = ({ requests, failed }: { requests: number; failed: number }) =>
  `${counted(failed, "request", "requests")} failed of ${count(requests)}${requests > 0 ? ` (${percent(failed / requests)})` : ""} · `;

export function ErrorsPage() {
  const search = useSearch({ from: "/inside/errors" });
  const navigate = useNavigate({ from: "/errors" });
  const errors = useErrors(search, useDeferredValue(search.q), search.cursor);
  const traffic = useTraffic(search);
  const field = useRef<HTMLInputElement>(null);
  // By its reference: news move rows, and the one that is chosen stays.
  const [current, setCurrent] = useState<string>();
  const items = errors.data?.items ?? [];
  const mayAct = useMayAct();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const choose = (ref: string | undefined) =>
    ref !== undefined &&
    mayAct &&
    setChosen((now) => new Set(now.has(ref) ? [...now].filter((other) => other !== ref) : [...now, ref]));
  // What is not in the list any more is not acted upon.
  const shown = items.map((error) => error.ref).filter((ref) => chosen.has(ref));
  const rows = useRef<(HTMLAnchorElement | null)[]>([]);
  const at = items.findIndex((error) => error.ref === current);
  useEffect(() => {
    // Whoever is typing goes on typing.
    if (!(document.activeElement instanceof HTMLInputElement)) rows.current[at]?.focus();
  }, [at]);
  useHotkeys({
    "/": () => field.current?.focus(),
    j: () => setCurrent(items[Math.min(items.length - 1, at + 1)]?.ref),
    k: () => setCurrent(items[Math.max(0, at - 1)]?.ref),
    x: () => choose(items[at]?.ref),
  });
  const box = (
    <PredicateBox
      field={field}
      label="Filter the list"
      placeholder='words, or a predicate such as: uncaught and version >= 2.4.0 and http.route like "/v1/*"'
      value={search.where}
      onApply={(where) => void navigate({ search: (now) => ({ ...now, where, q: undefined, cursor: undefined }) })}
      words={search.q}
      onWords={(q) => void navigate({ search: (now) => ({ ...now, q, cursor: undefined }), replace: true })}
    />
  );
  const where = (where: string) =>
    void navigate({ search: (now) => ({ ...now, where, q: undefined, cursor: undefined }) });
  const slices = <Slices scope={search} narrow={(test) => where(narrowed(search.where, test))} apply={where} />;
  if (errors.isPending) return <Skeleton isPage rows={9} />;
  if (errors.isLoadingError && search.where) {
    return (
      <>
        {box}
        <Failed isPage what="What matches" error={errors.error} retry={() => void errors.refetch()} />
      </>
    );
  }
  if (errors.isLoadingError)
    return <Failed isPage what="The list of errors" error={errors.error} retry={() => void errors.refetch()} />;
  const { total, total_without_words: all, handled, headline, next, against } = errors.data;
  const when = windowInWords(search);
  if (all === 0 && search.where && !search.cursor) {
    return (
      <>
        {box}
        {slices}
        <Empty isPage title={`Nothing matches in ${when}.`}>
          {errors.data.note && <p className="[overflow-wrap:anywhere]">In fact {errors.data.note}.</p>}
          <p>
            Choose a longer window above, or{" "}
            <Link from="/errors" to="." search={(now) => ({ ...now, where: undefined })}>
              take the predicate away
            </Link>
            .
          </p>
        </Empty>
      </>
    );
  }
  if (all === 0 && traffic.isPending) return <Skeleton isPage rows={3} />;
  if (all === 0)
    return (
      <Nothing
        requests={traffic.data?.requests ?? 0}
        when={when}
        service={search.service}
        isFurther={search.cursor !== undefined}
      />
    );
  const parts = new Set(items.map((error) => error.part)).size;
  const scope = {
    service: search.service,
    environment: search.environment,
    since: search.since,
    from: search.from,
    to: search.to,
    where: search.where,
    against: search.against,
  };
  return (
    // Until the numbers of a changed scope are there, those of the one before are dimmed.
    <div aria-busy={errors.isPlaceholderData} className={errors.isPlaceholderData ? "opacity-50" : undefined}>
      <Answer>
        <Said sentence={headline} />
      </Answer>
      <p className="text-faint mt-1">
        {traffic.data && requestsInWords(traffic.data)}
        {counted(all, "error", "errors")} in {when}
        {handled > 0 && `, ${count(handled)} of them settled or quiet`}
      </p>
      {against && search.against && (
        <p className="text-faint">
          Against {againstInWords(search.against)}: {counted(against.failed, "request", "requests")} failed of{" "}
          {count(against.requests)}
          {against.requests > 0 && ` (${percent(against.failed / against.requests)})`} ·{" "}
          {counted(against.errors, "error", "errors")}
          {against.gone > 0 && (
            <>
              {", "}
              <Link
                to="/errors"
                search={{
                  ...search,
                  since: undefined,
                  from: against.from,
                  to: against.to,
                  against: undefined,
                  cursor: undefined,
                }}
              >
                {count(against.gone)} of them gone now
              </Link>
            </>
          )}
        </p>
      )}
      {box}
      {slices}
      <div className="border-line hidden justify-between border-b pb-1 text-[13px] md:flex">
        <h2 className="font-semibold">
          What matters most first <span className="text-faint font-normal">by attention, 0 to 100</span>
        </h2>
        <span className="text-faint">share of requests · occurrences · users · last</span>
      </div>
      {search.q && total > 0 && !errors.isPlaceholderData && (
        <p className="text-faint py-1 text-[13px]" role="status">
          {count(total)} of {counted(all, "error", "errors")} have the words “{search.q}”.
        </p>
      )}
      {items.length === 0 ? (
        <Empty title={`None of ${counted(all, "error", "errors")} in ${when} has the words “${search.q ?? ""}”.`}>
          <p>Press Escape and clear the filter, or choose a longer window above.</p>
        </Empty>
      ) : (
        <ol>
          {items.map((error, row) => (
            <li key={error.ref}>
              {(parts > 1 || search.cursor) && items[row - 1]?.part !== error.part && (
                <h3 className="border-line border-b pt-3 pb-1 text-[13px] font-semibold">{PARTS[error.part]}</h3>
              )}
              <Row
                error={error}
                scope={scope}
                isFirst={row === 0 && !search.cursor}
                link={(link) => void (rows.current[row] = link)}
                isChosen={chosen.has(error.ref)}
                choose={mayAct ? () => choose(error.ref) : undefined}
              />
            </li>
          ))}
        </ol>
      )}
      {mayAct && <Bulk chosen={shown} clear={() => setChosen(new Set())} />}
      <p className="text-faint mt-3 flex flex-wrap gap-x-4 gap-y-1">
        <span>
          <Key>j</Key> <Key>k</Key> move
        </span>
        <span>
          <Key>Enter</Key> open
        </span>
        {mayAct && (
          <span>
            <Key>x</Key> choose
          </span>
        )}
        <span>
          <Key>/</Key> filter
        </span>
        <span>
          <Key>?</Key> all keys
        </span>
        {(next || search.cursor) && (
          <span className="ml-auto space-x-4">
            {search.cursor && (
              <Link to="/errors" search={{ ...search, cursor: undefined }}>
                first page
              </Link>
            )}
            {next && (
              <Link to="/errors" search={{ ...search, cursor: next }}>
                next page
              </Link>
            )}
          </span>
        )}
      </p>
    </div>
  );
}

/** A sentence of the service, with its age, growing, in its place. */
function Said({ sentence: { lead, text, since, rest } }: { sentence: Sentence }) {
  return (
    <>
      {lead && <span className="text-brick">{lead}</span>}
      {text}
      {since && (
        <>
          {" "}
          <Ago at={since} />
        </>
      )}
      {rest}
    </>
  );
}

type RowProps = {
  error: ErrorItem;
  isFirst: boolean;
  scope: Record<string, string | undefined>;
  link: (link: HTMLAnchorElement | null) => void;
  isChosen: boolean;
  /** For whoever may act on errors. */
  choose: (() => void) | undefined;
};

/** Reasons told in the first row: the weightiest; the page of the error has all. */
const SHOWN_REASONS = 5;

function Row({ error, isFirst, scope, link, isChosen, choose }: RowProps) {
  const { score, reasons } = error.attention;
  const tone = score >= 60 ? "bg-brick" : score >= 40 ? "bg-ochre" : "bg-layer-4";
  const known = handled(error).join(", ");
  const open = { to: "/errors/$ref", params: { ref: error.ref }, search: scope } as const;
  return (
    <div className="border-line grid grid-cols-[4rem_1fr] items-center gap-x-3 border-b py-1.5 md:grid-cols-[4rem_1fr_190px_4.5rem_4.5rem_4rem_4.5rem]">
      <span className="flex items-center gap-1.5 font-mono text-[13px]" title={reasons.join(", ")}>
        {choose && (
          <input
            type="checkbox"
            aria-label={`Choose ${error.ref}`}
            checked={isChosen}
            onChange={choose}
            className="size-4"
          />
        )}
        <span aria-hidden="true" className={`h-4 w-1 ${tone}`} />
        <span className="sr-only">attention </span>
        {score}
        <span className="sr-only"> for {reasons.join(", ")}</span>
      </span>
      <div className="min-w-0">
        <Link ref={link} {...open} className="text-ink block font-semibold md:line-clamp-2">
          {error.flags.length > 0 && <span className="text-brick">{error.flags.join(", ")}: </span>}
          <Said sentence={error.sentence} />
        </Link>
        <p className="text-faint text-[13px] md:truncate">
          {known && <span className="text-ochre">{known} · </span>}
          {error.service} · {error.title}
          {error.own_frame && <span className="font-mono text-[12px]"> · {error.own_frame}</span>}
          <span className="font-mono text-[12px]"> · {error.ref}</span>
        </p>
        {isFirst && (
          <p className="text-faint text-[13px]">Ranked first: {reasons.slice(0, SHOWN_REASONS).join(" · ")}</p>
        )}
      </div>
      <div className="hidden md:block">
        {error.strip && (
          <Strip
            timeline={error.strip}
            isYoung={error.sentence.since !== undefined}
            label={`${count(error.count)} occurrences over time`}
          />
        )}
      </div>
      <span className="col-start-2 text-[13px] md:col-auto md:text-right md:font-mono">
        {error.request_share === null || error.request_share === undefined ? "—" : percent(error.request_share)}
        <span className="md:hidden"> of requests · </span>
        <Link {...open} className="underline md:hidden">
          {counted(error.count, "occurrence", "occurrences")}
        </Link>
        <span className="md:hidden"> · {ago(error.last_seen)}</span>
      </span>
      <Link
        {...open}
        tabIndex={-1}
        className="hidden text-right font-mono text-[13px] md:block"
        aria-label={`${error.count} occurrences`}
      >
        {count(error.count)}
        {error.against && <Then then={error.against} />}
      </Link>
      <span className="hidden text-right font-mono text-[13px] md:block">{count(error.users)}</span>
      <Ago at={error.last_seen} isShort className="hidden text-right text-[13px] md:block" />
    </div>
  );
}

/** How many there were in the period held against, and whether it is more or less now. */
function Then({ then }: { then: NonNullable<ErrorItem["against"]> }) {
  return (
    <span
      className={`block text-[12px] ${then.change === "more" ? "text-brick" : then.change === "less" ? "text-moss" : "text-faint"}`}
    >
      {then.change === "more" && "▲ "}
      {then.change === "less" && "▼ "}
      {count(then.count)} then
    </span>
  );
}

function Nothing({
  requests,
  when,
  service,
  isFurther,
}: {
  requests: number;
  when: string;
  service: string | undefined;
  isFurther: boolean;
}) {
  if (isFurther) {
    return (
      <Empty isPage title="There are no further errors.">
        <Link to="/errors">To the first page</Link>
      </Empty>
    );
  }
  if (requests > 0) {
    return (
      <Empty isPage title={`Nothing failed in ${when}.`}>
        <p>
          {count(requests)} requests came in and none of them reported an exception. Choose a longer window to see older
          errors.
        </p>
      </Empty>
    );
  }
  return (
    <Empty isPage title={`Nothing came in ${service ? `from ${service} ` : ""}in ${when}.`}>
      <p>
        <Link to="/connect">Connect a service</Link>, or send a test report with a sender key in OUTCROP_KEY:
      </p>
      <Code label="Test report">outcrop send --service test --message 'it works'</Code>
    </Empty>
  );
}
