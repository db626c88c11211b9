import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useEffect, useMemo, useRef } from "react";
import { type SpanItem, type TraceDetail, reading } from "../../api/client";
import { counted, duration, exact } from "../../ui/format";
import { useHotkeys } from "../../ui/hotkeys";
import { Failed, Key, Skeleton } from "../../ui/states";
import { Facts } from "../../ui/facts";
import { Answer, Button } from "../../ui/kit";

const ROW = 26;
/** Rows that a page key goes on. */
const PAGE = 20;

/** A whole request over all services. */
export function TracePage() {
  const { id } = useParams({ from: "/inside/traces/$id" });
  const trace = useQuery(reading("/api/v1/traces/{id}", { params: { path: { id } } }));
  if (trace.isPending) return <Skeleton isPage rows={12} />;
  if (trace.isLoadingError)
    return <Failed isPage what="The trace" error={trace.error} retry={() => void trace.refetch()} />;
  return <Shown trace={trace.data} />;
}

function Shown({ trace }: { trace: TraceDetail }) {
  const { span: chosen } = useSearch({ from: "/inside/traces/$id" });
  const navigate = useNavigate({ from: "/traces/$id" });
  const spans = trace.spans;
  const at = Math.max(
    0,
    spans.findIndex((span) => span.span_id === chosen),
  );
  const go = (place: number) => {
    const span = spans[Math.min(spans.length - 1, Math.max(0, place))];
    if (span) void navigate({ search: (now) => ({ ...now, span: span.span_id }), replace: true });
  };
  const failed = useMemo(
    () => spans.flatMap((span, place) => (span.status === "error" || span.occurrences.length > 0 ? [place] : [])),
    [spans],
  );
  const router = useNavigate();
  const occurrence = spans[at]?.occurrences[0];
  useHotkeys({
    l: () => void router({ to: "/traffic", search: { view: "logs", trace: trace.trace_id, since: "7d" } }),
    o: () =>
      occurrence &&
      void router({
        to: "/errors/$ref",
        params: { ref: occurrence.ref },
        search: { occurrence: occurrence.id, since: "30d" },
      }),
    j: () => go(at + 1),
    k: () => go(at - 1),
    n: () => go(failed.find((place) => place > at) ?? failed[0] ?? at),
    p: () => go(failed.findLast((place) => place < at) ?? failed.at(-1) ?? at),
  });
  const warnings = [
    ...trace.repeated.map((found) => (
      <>
        {found.service} ran <code className="text-[13px]">{found.statement}</code>{" "}
        {counted(found.count, "time", "times")} below one span: {duration(found.total_ms)}.
      </>
    )),
    trace.missing > 0 &&
      `${counted(trace.missing, "span", "spans")} that others name never came: what is below may hang elsewhere.`,
    trace.moved > 0 &&
      `${counted(trace.moved, "span was", "spans were")} moved into the call that caused them, since clocks differ.`,
    trace.is_cut && "There are more spans than are shown.",
  ].filter(Boolean);
  const why =
    trace.kept_because.length > 0
      ? `${trace.is_kept ? "kept" : "will be kept"}: ${trace.kept_because.join(", ")}`
      : "goes within the hour: it neither failed nor was slow";
  const selected = spans[at];
  return (
    <article>
      <Answer>
        {trace.failed_first && <span className="text-brick">{trace.failed_first} </span>}
        {trace.sentence}
      </Answer>
      <p className="text-faint mt-1">
        {counted(spans.length, "span", "spans")} over {trace.services.join(", ")} ·{" "}
        {failed.length > 0 ? `${counted(failed.length, "span", "spans")} failed` : "none failed"} ·{" "}
        {duration(trace.duration_ms)} · {exact(trace.started_at)} · {why} ·{" "}
        <span className="font-mono text-[13px]">{trace.trace_id}</span>
      </p>
      {warnings.length > 0 && (
        <ul className="border-ochre bg-sheet mt-2 border-l-4 px-3 py-1">
          {warnings.map((warning, place) => (
            <li key={place} className="break-words">
              {warning}
            </li>
          ))}
        </ul>
      )}
      <div className="mt-3 grid gap-x-6 gap-y-4 lg:grid-cols-[minmax(0,1fr)_24rem]">
        <div className="min-w-0">
          <Waterfall trace={trace} at={at} go={go} />
          <p className="text-faint mt-2 flex flex-wrap gap-x-4 text-[13px]">
            <span>
              <Key>j</Key> <Key>k</Key> move
            </span>
            <span>
              <Key>n</Key> <Key>p</Key> next and previous failure
            </span>
            <span>
              <Key>o</Key> its error
            </span>
            <span>
              <Key>l</Key> log lines of the request
            </span>
            <span>
              <span aria-hidden="true" className="bg-accent mr-1 inline-block h-2.5 w-5 align-middle" /> the request was
              waiting for it
            </span>
            <span>
              <span aria-hidden="true" className="bg-line mr-1 inline-block h-2.5 w-5 align-middle" /> it was not
            </span>
            <span className="text-brick">✗ failed</span>
          </p>
        </div>
        {selected && (
          <Detail span={selected} trace={trace} go={(id) => go(spans.findIndex((span) => span.span_id === id))} />
        )}
      </div>
    </article>
  );
}

/** The spans as a tree with bars over time; only the rows in sight are in the page. */
function Waterfall({ trace, at, go }: { trace: TraceDetail; at: number; go: (place: number) => void }) {
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: trace.spans.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  useEffect(() => rows.scrollToIndex(at, { align: "auto" }), [at, rows]);
  const total = Math.max(trace.duration_ms, 0.001);
  const onKeyDown = (event: KeyboardEvent) => {
    const to = {
      ArrowDown: at + 1,
      ArrowUp: at - 1,
      PageDown: at + PAGE,
      PageUp: at - PAGE,
      Home: 0,
      End: trace.spans.length - 1,
    }[event.key];
    if (to === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    go(to);
  };
  const ticks = [0, 0.25, 0.5, 0.75, 1];
  return (
    <section aria-label="Spans over time">
      <div className="border-line text-faint flex [scrollbar-gutter:stable] overflow-y-hidden border-b pb-1 text-[12px] tabular-nums">
        <span className="w-[45%] shrink-0" />
        <div className="relative h-4 flex-1">
          {ticks.map((share) => (
            <span
              key={share}
              className={`absolute whitespace-nowrap ${share === 1 ? "-translate-x-full" : share > 0 ? "-translate-x-1/2" : ""}`}
              style={{ left: `${share * 100}%` }}
            >
              {share === 0 ? "0" : duration(total * share)}
            </span>
          ))}
        </div>
        <span className="w-16 shrink-0" />
      </div>
      <div
        ref={box}
        className="max-h-[34rem] [scrollbar-gutter:stable] overflow-y-auto"
        role="tree"
        aria-label="Spans"
        tabIndex={0}
        aria-activedescendant={`span-${trace.spans[at]?.span_id ?? ""}`}
        onKeyDown={onKeyDown}
      >
        <div className="relative" style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map((row) => {
            const span = trace.spans[row.index] as SpanItem;
            return (
              <div
                key={span.span_id}
                id={`span-${span.span_id}`}
                role="treeitem"
                tabIndex={-1}
                aria-level={span.depth + 1}
                aria-selected={row.index === at}
                onClick={() => go(row.index)}
                onKeyDown={onKeyDown}
                className={`border-line absolute inset-x-0 flex cursor-pointer items-center border-b text-[13px] ${row.index === at ? "bg-wash font-semibold" : "hover:bg-wash"}`}
                style={{ height: ROW, transform: `translateY(${row.start}px)` }}
              >
                <span
                  className="w-[45%] shrink-0 truncate pr-2"
                  style={{ paddingLeft: Math.min(span.depth, 24) * 12 }}
                  title={`${span.service}: ${span.name}`}
                >
                  {(span.status === "error" || span.occurrences.length > 0) && <span className="text-brick">✗ </span>}
                  <span className="text-faint">{span.service}</span> {span.is_missing ? <i>{span.name}</i> : span.name}
                </span>
                <span className="relative h-full flex-1">
                  <span
                    className={`absolute top-[7px] h-3 ${span.is_missing ? "border-line border border-dashed" : span.status === "error" ? "bg-brick" : span.on_critical_path ? "bg-accent" : "bg-line"}`}
                    style={{
                      left: `${(span.offset_ms / total) * 100}%`,
                      width: `max(2px, ${(span.duration_ms / total) * 100}%)`,
                    }}
                  />
                </span>
                <span className="text-faint w-16 shrink-0 text-right font-normal tabular-nums">
                  {duration(span.duration_ms)}
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}

function Detail({ span, trace, go }: { span: SpanItem; trace: TraceDetail; go: (id: string) => void }) {
  const origin = trace.spans.find((other) => other.span_id === span.origin_span_id);
  const share = trace.critical_path
    .filter((step) => step.span_id === span.span_id)
    .reduce((sum, step) => sum + step.duration_ms, 0);
  const resource =
    span.resource ?? trace.spans.find((other) => other.resource && other.service === span.service)?.resource;
  return (
    <section aria-label="The chosen span" className="min-w-0 text-[13px]">
      <h2 className="border-line border-b pb-1 text-base font-semibold break-words">
        {span.service} {span.name}
      </h2>
      <p className="text-faint py-1">
        {span.is_missing ? "Never came" : span.kind} · {span.version} in {span.environment} · took{" "}
        {duration(span.duration_ms)}, {duration(span.self_ms)} by itself
        {share > 0 && `, the request waited ${duration(share)} for it`}
        {span.moved_ms !== 0 && ` · moved by ${duration(Math.abs(span.moved_ms))}`}
      </p>
      {span.status_message && <p className="text-brick break-words">{span.status_message}</p>}
      {span.occurrences.map((occurrence) => (
        <p key={occurrence.id} className="border-brick bg-sheet border-l-4 px-2 py-1">
          <Link to="/errors/$ref" params={{ ref: occurrence.ref }} search={{ occurrence: occurrence.id, since: "30d" }}>
            {occurrence.title}
          </Link>
        </p>
      ))}
      {origin && (
        <p className="mt-1">
          It failed because{" "}
          <Button look="link" onClick={() => go(origin.span_id)}>
            {origin.service} {origin.name}
          </Button>{" "}
          failed first.
        </p>
      )}
      <SpanLines trace={trace.trace_id} span={span.span_id} />
      <Pairs title="Attributes" data={span.attributes} />
      {span.events.map((event, place) => (
        <Pairs
          key={place}
          title={`${event.name}, ${duration(event.offset_ms)} after the beginning`}
          data={event.attributes}
        />
      ))}
      {span.links.length > 0 && (
        <>
          <h3 className="mt-2 font-semibold">Links</h3>
          {span.links.map((link) => (
            <p key={`${link.trace_id} ${link.span_id}`}>
              <Link
                to="/traces/$id"
                params={{ id: link.trace_id }}
                search={{ span: link.span_id }}
                className="font-mono break-all"
              >
                {link.trace_id}
              </Link>
            </p>
          ))}
        </>
      )}
      <Pairs title="Where it ran" data={resource} />
    </section>
  );
}

/** The log lines of the chosen span; those of the whole request are a click away. */
function SpanLines({ trace, span }: { trace: string; span: string }) {
  const lines = useQuery(reading("/api/v1/logs", { params: { query: { trace, since: "7d", limit: 500 } } }));
  if (lines.isPending) return null;
  if (lines.isLoadingError)
    return <Failed what="The log lines" error={lines.error} retry={() => void lines.refetch()} />;
  const all = lines.data.items;
  const own = all.filter((line) => line.span_id === span).reverse();
  return (
    <>
      <h3 className="mt-2 font-semibold">Log lines</h3>
      {own.map((line) => (
        <p key={line.id} className="border-line border-b py-0.5 font-mono [overflow-wrap:anywhere]">
          <span
            className={
              line.severity === "error" || line.severity === "fatal"
                ? "text-brick"
                : line.severity === "warn"
                  ? "text-ochre"
                  : "text-faint"
            }
          >
            {line.severity ?? "—"}
          </span>{" "}
          <bdi>{line.message}</bdi>
        </p>
      ))}
      <p className="text-faint py-1">
        {own.length === 0 && "None in this span. "}
        {all.length > 0 && (
          <Link to="/traffic" search={{ view: "logs", trace, since: "7d" }}>
            {counted(all.length, "line", "lines")} of the whole request
          </Link>
        )}
      </p>
    </>
  );
}

function Pairs({ title, data }: { title: string; data: unknown }) {
  const pairs = Object.entries((data ?? {}) as Record<string, unknown>);
  if (pairs.length === 0) return null;
  return (
    <>
      <h3 className="mt-2 font-semibold break-words">{title}</h3>
      <Facts areAttributes facts={pairs.map(([name, value]) => ({ name, value }))} />
    </>
  );
}
