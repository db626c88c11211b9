import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type ReactNode, useDeferredValue, useEffect, useRef, useState } from "react";
import { type ListPart, useErrors, useMayAct, useTraffic } from "../../api/client";
import { againstInWords, count, counted, percent, windowInWords } from "../../ui/format";
import { useHotkeys } from "../../ui/hotkeys";
import { Code, Empty, Failed, Key, Skeleton } from "../../ui/states";
import { Views } from "../../parts/views";
import { PredicateBox, narrowed } from "../../parts/predicate-box";
import { Bulk } from "./bulk";
import { Row, Said } from "./row";
import { Slices } from "./slices";
import { Answer } from "../../ui/kit";

const PARTS: Record<ListPart, string> = {
  from_deploy: "From a deploy",
  rising: "Rising without one",
  known: "Known",
  handled: "Settled or quiet",
};

/** Columns that the list can be ordered by, as the API calls them. */
const COLUMNS = [
  ["attention", "attention", "Attention, 0 to 100"],
  ["request_share", "share", "Share of the requests to its endpoints that failed with it"],
  ["count", "occurrences", "Occurrences"],
  ["users", "users", "Users"],
  ["last_seen", "last", "When it occurred last"],
] as const;

/** What is named of a whole list, and the predicate that shows these alone. */
const SAID = [
  ["new", "open and new"],
  ["surging", "open and surging"],
  ["returned", "open and returned"],
] as const;

const requestsInWords = ({ requests, failed }: { requests: number; failed: number }) =>
  `${counted(failed, "request", "requests")} failed of ${count(requests)}${requests > 0 ? ` (${percent(failed / requests)})` : ""} · `;

export function ErrorsPage() {
  const search = useSearch({ from: "/inside/errors" });
  const navigate = useNavigate({ from: "/errors" });
  const errors = useErrors(search, { words: useDeferredValue(search.q), order: search.order, cursor: search.cursor });
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
  const { parts: partCounts, flagged } = errors.data;
  const order = search.order ?? "attention";
  const isByPart = order === "attention" && Object.values(partCounts).filter((n) => n > 0).length > 1;
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
        {SAID.filter(([kind]) => flagged[kind] > 0).map(([kind, test]) => (
          <span key={kind}>
            {", "}
            <Narrow to={narrowed(search.where, test)}>
              {count(flagged[kind])} {kind}
            </Narrow>
          </span>
        ))}
        {handled > 0 && (
          <>
            {", "}
            <Narrow to={narrowed(search.where, "not open")}>{count(handled)} settled or quiet</Narrow>
          </>
        )}
        {!search.where?.includes("mine") && (
          <>
            {" · "}
            <Narrow to={narrowed(search.where, "mine")}>what is mine</Narrow>
          </>
        )}
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
      <div className="flex flex-wrap items-baseline gap-x-6">
        {slices}
        <Views />
      </div>
      <Heads
        order={order}
        set={(order) =>
          void navigate({
            search: (now) => ({ ...now, order: order === "attention" ? undefined : order, cursor: undefined }),
          })
        }
      />
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
              {isByPart && items[row - 1]?.part !== error.part && (
                <h3 className="border-line border-b pt-3 pb-1 text-[13px] font-semibold">
                  {PARTS[error.part]} <span className="text-faint font-normal">{count(partCounts[error.part])}</span>
                </h3>
              )}
              <Row
                error={error}
                scope={scope}
                isFirst={row === 0 && !search.cursor && order === "attention"}
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

/** Leads to the list with another predicate. */
function Narrow({ to, children }: { to: string; children: ReactNode }) {
  return (
    <Link
      from="/errors"
      to="."
      search={(now) => ({ ...now, where: to, q: undefined, cursor: undefined })}
      className="underline"
    >
      {children}
    </Link>
  );
}

/** The heads of the columns; each orders the list by what it is the head of, then the other way. */
function Heads({ order, set }: { order: string; set: (order: string) => void }) {
  const [by, way] = order.split(" ");
  const title =
    by === "attention" && !way
      ? "What matters most first"
      : `By ${COLUMNS.find(([name]) => name === by)?.[1] ?? by}, the ${way ? "least" : "most"} first`;
  return (
    <div className="border-line text-faint grid-cols-[5rem_1fr_190px_4.5rem_5.5rem_4rem_4.5rem] gap-x-3 border-b pb-1 text-[13px] md:grid">
      <h2 className="text-ink font-semibold md:order-2">{title}</h2>
      {COLUMNS.map(([name, words, what]) => (
        <span key={name} className={`mr-3 md:mr-0 ${name === "attention" ? "md:order-1" : "md:order-4 md:text-right"}`}>
          <button
            type="button"
            title={`${what}: order the list by it`}
            aria-label={`Order by ${words}`}
            aria-pressed={by === name}
            onClick={() => set(by === name && !way ? `${name} up` : name)}
            className="aria-pressed:text-ink min-h-6 hover:underline aria-pressed:font-semibold"
          >
            {words}
            {by === name && <span aria-hidden="true"> {way ? "▴" : "▾"}</span>}
          </button>
        </span>
      ))}
      <span className="hidden md:order-3 md:block" />
    </div>
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
