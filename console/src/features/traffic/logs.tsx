import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { type SubmitEvent, Fragment, useState } from "react";
import { type LogItem, reading } from "../../api/client";
import { againstInWords, count, counted, exact, windowInWords } from "../../ui/format";
import { PredicateBox, narrowed } from "../../parts/predicate-box";
import { useHotkeys } from "../../ui/hotkeys";
import { Empty, Failed, Key, Skeleton } from "../../ui/states";
import { numberQuestion, numbersOf } from "./line-numbers";
import { LinesCourse } from "./lines-course";
import { LinesShared } from "./lines-shared";
import { useScope } from "./scope";
import { Facts } from "../../ui/facts";
import { Answer, Button, Input, Select } from "../../ui/kit";

const SEVERITIES = ["trace", "debug", "info", "warn", "error", "fatal"];

const shade = (severity: string | null | undefined) =>
  severity === "error" || severity === "fatal" ? "text-brick" : severity === "warn" ? "text-ochre" : "text-faint";

/** Log lines, or what they have in common. */
export function Logs() {
  const { search } = useScope();
  const navigate = useNavigate({ from: "/traffic" });
  const set = (change: Partial<typeof search>) =>
    void navigate({ search: (now) => ({ ...now, cursor: undefined, ...change }) });
  const [text, setText] = useState(search.text ?? "");
  const [applied, setApplied] = useState(search.text);
  if (applied !== search.text) {
    setApplied(search.text);
    setText(search.text ?? "");
  }
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    set({ text: text.trim() || undefined });
  };
  const areTemplates = search.all === true;
  return (
    <>
      <form onSubmit={submit} className="mb-3 flex flex-wrap items-center gap-2">
        <Input
          aria-label="Text in the line"
          placeholder="text in the line"
          value={text}
          onChange={setText}
          className="w-56"
        />
        <Select
          label="Least severity"
          value={search.severity ?? ""}
          options={[["", "any severity"], ...SEVERITIES.map((name) => [name, `${name} and above`] as const)]}
          onChange={(severity) => set({ severity: severity || undefined })}
        />
        <Button type="submit">Find</Button>
        {!areTemplates && (
          <div className="min-w-64 flex-1">
            <PredicateBox
              value={search.where}
              onApply={(where) => set({ where })}
              label="Predicate over lines"
              placeholder="where: severity >= warn and berth = 7"
            />
          </div>
        )}
        <button
          type="button"
          aria-pressed={areTemplates}
          onClick={() =>
            set({
              all: areTemplates ? undefined : true,
              template: undefined,
              where: undefined,
              trace: undefined,
              error: undefined,
            })
          }
          className="border-line aria-pressed:bg-wash rounded-sm border px-3 py-1"
        >
          What they have in common
        </button>
      </form>
      {areTemplates ? <Templates /> : <Lines />}
    </>
  );
}

function Lines() {
  const { search, query } = useScope();
  const navigate = useNavigate({ from: "/traffic" });
  const wanted = {
    where: search.where,
    text: search.text,
    severity: search.severity,
    template: search.template,
    trace: search.trace,
    error: search.error,
    cursor: search.cursor,
  };
  const { cursor, ...which } = wanted;
  const given = Object.fromEntries(Object.entries(which).filter(([, value]) => value !== undefined)) as Record<
    string,
    string
  >;
  const lines = useQuery(
    reading("/api/v1/logs", { params: { query: { ...query, ...given, ...(cursor && { cursor }), limit: 100 } } }),
  );
  const newest = () => {
    window.scrollTo({ top: 0 });
    if (search.cursor !== undefined) void navigate({ search: (now) => ({ ...now, cursor: undefined }) });
  };
  useHotkeys({ n: newest });
  if (lines.isPending) return <Skeleton isPage rows={10} />;
  if (lines.isLoadingError)
    return <Failed isPage what="The log lines" error={lines.error} retry={() => void lines.refetch()} />;
  const { items, next } = lines.data;
  const of = [
    search.text && `that hold “${search.text}”`,
    search.severity && `of severity ${search.severity} and above`,
    search.template && "of one template",
    search.trace && `of trace ${search.trace.slice(0, 8)}…`,
    search.error && `of requests in which ${search.error} occurred`,
  ].filter(Boolean);
  const isNarrowed = of.length > 0 || search.where;
  const worst = items.filter((item) => item.severity === "error" || item.severity === "fatal").length;
  if (items.length === 0) {
    return (
      <>
        <h1 className="sr-only">Log lines</h1>
        <Empty
          title={
            isNarrowed
              ? `No such line came in ${windowInWords(search)}.`
              : `No log line came in ${windowInWords(search)}.`
          }
        >
          <p>
            Lines are kept for seven days unless set otherwise. A service sends them over OTLP, or outcrop collect reads
            its files.
          </p>
        </Empty>
      </>
    );
  }
  return (
    <>
      <Answer>
        {[
          search.cursor
            ? counted(items.length, "older line", "older lines")
            : next
              ? `The newest ${items.length} lines`
              : counted(items.length, "line", "lines"),
          of.join(", "),
        ]
          .filter(Boolean)
          .join(" ")}
        {worst > 0 ? (
          <>
            , <span className="text-brick">{counted(worst, "of them an error", "of them errors")}</span>
          </>
        ) : (
          ", none of them an error"
        )}
        .
      </Answer>
      <p className="text-faint mt-1">
        In {windowInWords(search)}.{" "}
        {isNarrowed && (
          <Button
            look="link"
            onClick={() =>
              void navigate({
                search: (now) => ({
                  ...now,
                  where: undefined,
                  text: undefined,
                  severity: undefined,
                  template: undefined,
                  trace: undefined,
                  error: undefined,
                  cursor: undefined,
                }),
              })
            }
          >
            all lines
          </Button>
        )}
      </p>
      <LinesCourse
        onWindow={(from, to) =>
          void navigate({
            search: (now) => ({ ...now, from: from.toISOString(), to: to.toISOString(), cursor: undefined }),
          })
        }
      />
      {isNarrowed && (
        <LinesShared
          query={{ ...query, ...given }}
          narrow={(test) =>
            void navigate({ search: (now) => ({ ...now, where: narrowed(now.where, test), cursor: undefined }) })
          }
        />
      )}
      <ol className="mt-2 text-[13px]">
        {items.map((item) => (
          <Line key={item.id} item={item} />
        ))}
      </ol>
      {(next || search.cursor) && (
        <p className="mt-3 flex flex-wrap justify-end gap-x-4">
          {search.cursor && (
            <Button look="link" onClick={newest}>
              <Key>n</Key> the newest
            </Button>
          )}
          {next && (
            <Link to="/traffic" search={{ ...search, cursor: next }}>
              older ones
            </Link>
          )}
        </p>
      )}
    </>
  );
}

function Line({ item }: { item: LogItem }) {
  const { search } = useScope();
  const [open, setOpen] = useState(false);
  const attributes = Object.entries((item.attributes ?? {}) as Record<string, unknown>);
  const said = Object.fromEntries(attributes);
  const thrown = [said["exception.type"], said["exception.message"]].filter(Boolean).join(": ");
  return (
    <li className="border-line border-b py-1">
      <div className="grid gap-x-3 md:grid-cols-[12rem_3.5rem_minmax(0,1fr)]">
        <time dateTime={item.at} className="text-faint tabular-nums">
          {item.at.slice(0, 10)} {item.at.slice(11, 23)}
        </time>
        <span className={shade(item.severity)}>{item.severity ?? "—"}</span>
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="hover:bg-wash min-w-0 text-left font-mono [overflow-wrap:anywhere]"
        >
          <span className="text-faint font-sans">{item.service}</span>{" "}
          <bdi>{open ? item.message : item.message.split("\n")[0]}</bdi>
          {thrown && !item.message.includes(thrown) && <bdi className="text-faint"> — {thrown}</bdi>}
        </button>
      </div>
      {open && (
        <div className="border-line bg-sheet mt-1 border-l-4 px-3 py-2">
          <p className="flex flex-wrap gap-x-4">
            {item.trace_id && (
              <Link to="/traces/$id" params={{ id: item.trace_id }} search={item.span_id ? { span: item.span_id } : {}}>
                its trace
              </Link>
            )}
            {item.trace_id && (
              <Link
                to="/traffic"
                search={{ ...search, trace: item.trace_id, template: undefined, text: undefined, cursor: undefined }}
              >
                all lines of its request
              </Link>
            )}
            <Link to="/traffic" search={{ ...search, template: item.template, text: undefined, cursor: undefined }}>
              more like this
            </Link>
            <Link
              to="/traffic"
              search={{
                ...search,
                all: true,
                template: item.template,
                where: undefined,
                text: undefined,
                trace: undefined,
                error: undefined,
                cursor: undefined,
              }}
            >
              how often, and its numbers
            </Link>
            <span className="text-faint">
              {item.version} in {item.environment}
            </span>
          </p>
          <Facts areAttributes facts={attributes.map(([name, value]) => ({ name, value }))} />
        </div>
      )}
    </li>
  );
}

function Templates() {
  const { search, query, then } = useScope();
  const given = Object.fromEntries(
    Object.entries({
      text: search.text,
      severity: search.severity,
      template: search.template,
      against: search.against,
    }).filter(([, value]) => value !== undefined),
  );
  const templates = useQuery(
    reading("/api/v1/logs/templates", { params: { query: { ...query, ...given, limit: 100 } } }),
  );
  if (templates.isPending) return <Skeleton isPage rows={10} />;
  if (templates.isLoadingError)
    return <Failed isPage what="The templates" error={templates.error} retry={() => void templates.refetch()} />;
  const { items } = templates.data;
  const [first] = items;
  if (!first) {
    return (
      <>
        <h1 className="sr-only">Line templates</h1>
        <Empty title={`No such line came in ${windowInWords(search)}.`}>
          <p>Lines are counted by the hour; choose a longer window above.</p>
        </Empty>
      </>
    );
  }
  return (
    <>
      <Answer>
        {first.service} says most often, {counted(first.count, "time", "times")}:{" "}
        <span className="font-mono text-[0.9em]">{first.text}</span>
      </Answer>
      <p className="text-faint mt-1">
        Over the whole hours of {windowInWords(search)}, and {againstInWords(search.against ?? "before")}; what varies
        from line to line stands in braces.
      </p>
      <ol className="mt-2 text-[13px]">
        {items.map((item) => (
          <li
            key={`${item.service} ${item.template}`}
            className="border-line grid items-center gap-x-3 border-b py-1 md:grid-cols-[5rem_8rem_3.5rem_minmax(0,1fr)_110px]"
          >
            <span className="text-right tabular-nums">{count(item.count)}</span>
            <span className="text-faint tabular-nums">
              {item.before === 0 ? `none ${then}` : `${count(item.before)} ${then}`}
            </span>
            <span className={shade(item.severity)}>{item.severity ?? "—"}</span>
            <div className="min-w-0">
              <Link
                to="/traffic"
                search={{
                  ...search,
                  all: undefined,
                  template: item.template,
                  service: item.service,
                  cursor: undefined,
                }}
                className="font-mono [overflow-wrap:anywhere]"
              >
                <span className="text-faint font-sans">{item.service}</span> {item.text}
              </Link>
              <Numbers template={item.text} service={item.service} />
            </div>
            <Hours hours={item.hours} label={`${item.count} lines by the hour`} />
          </li>
        ))}
      </ol>
    </>
  );
}

/** The numbers of a template, each leading to its course over time. */
function Numbers({ template, service }: { template: string; service: string }) {
  const { search } = useScope();
  const numbers = numbersOf(template);
  if (numbers.length === 0) return null;
  const { since, from, to, environment } = search;
  return (
    <p className="text-faint flex flex-wrap gap-x-3">
      over time:
      {numbers.map((number) => (
        <Link
          key={number.place}
          to="/ask"
          search={{ since, from, to, environment, question: numberQuestion(template, service, number) }}
          className="font-mono underline"
        >
          {number.words}
        </Link>
      ))}
    </p>
  );
}

function Hours({ hours, label }: { hours: { at: string; count: number }[]; label: string }) {
  const most = Math.max(1, ...hours.map((hour) => hour.count));
  const [first, last] = [Date.parse(hours[0]?.at ?? ""), Date.parse(hours.at(-1)?.at ?? "")];
  const steps = Math.max(1, (last - first) / 3_600_000 + 1);
  return (
    <svg width="108" height="20" role="img" aria-label={label}>
      {hours.map((hour) => {
        const at = (Date.parse(hour.at) - first) / 3_600_000;
        const high = Math.max(1, (hour.count / most) * 20);
        return (
          <Fragment key={hour.at}>
            <rect
              x={(at / steps) * 108}
              width={Math.max(1, 108 / steps - 0.6)}
              y={20 - high}
              height={high}
              fill="var(--color-layer-3)"
            >
              <title>
                {exact(hour.at)}: {count(hour.count)}
              </title>
            </rect>
          </Fragment>
        );
      })}
    </svg>
  );
}
