import { Link } from "@tanstack/react-router";
import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import { Fragment, useState } from "react";
import type { Exception, Frame, OccurrenceDetail } from "../../api/client";
import { counted, exact } from "../../ui/format";
import { LeadUp } from "./lead-up";
import { testOf } from "../../parts/predicate-box";
import { Facts } from "../../ui/facts";
import { Button } from "../../ui/kit";

const TABS = ["Stack", "Request", "All data", "As sent"] as const;

/** One occurrence: its stack, its request, all that was sent with it. */
export function OccurrenceView({
  occurrence,
  narrow,
}: {
  occurrence: OccurrenceDetail;
  narrow: (test: string) => void;
}) {
  return (
    <TabGroup>
      <TabList className="my-2 flex gap-5">
        {TABS.map((name) => (
          <Tab
            key={name}
            className="text-accent data-selected:border-accent data-selected:text-ink border-b-2 border-transparent pb-0.5 data-selected:font-semibold"
          >
            {name}
          </Tab>
        ))}
      </TabList>
      <TabPanels>
        <TabPanel>
          <div className="grid grid-cols-[minmax(0,1fr)] gap-x-6 lg:grid-cols-[minmax(0,1fr)_24rem]">
            <StackView occurrence={occurrence} />
            <LeadUp occurrence={occurrence} />
          </div>
        </TabPanel>
        <TabPanel>
          <Request occurrence={occurrence} narrow={narrow} />
        </TabPanel>
        <TabPanel>
          <Data title="Attributes" data={occurrence.attributes} narrow={narrow} />
          <Data title="Resource" data={occurrence.resource} narrow={narrow} />
          {occurrence.also_reported.length > 0 && (
            <>
              <h3 className="mt-4 font-semibold">
                The same failure was reported {counted(occurrence.also_reported.length, "more time", "more times")}
              </h3>
              <ul className="text-[13px]">
                {occurrence.also_reported.map((report) => (
                  <li key={`${report.at} ${report.span_id}`} className="border-line border-b py-1 break-words">
                    {exact(report.at)} {report.span_id ? `on span ${report.span_id}` : "without a trace"}: {report.type}{" "}
                    {report.message}
                  </li>
                ))}
              </ul>
            </>
          )}
        </TabPanel>
        <TabPanel>
          {occurrence.sent ? (
            <pre
              role="region"
              tabIndex={0}
              aria-label="The data as sent"
              className="border-line bg-sheet max-h-[32rem] overflow-auto rounded-sm border p-3 font-mono text-[12px] whitespace-pre"
            >
              {JSON.stringify(occurrence.sent, null, 2)}
            </pre>
          ) : (
            <p className="text-faint py-3">
              The exact data of this occurrence was not kept: of a busy error it is sampled, but kept of the first, the
              latest and the fullest in each version.
            </p>
          )}
        </TabPanel>
      </TabPanels>
    </TabGroup>
  );
}

function StackView({ occurrence }: { occurrence: OccurrenceDetail }) {
  const [raw, setRaw] = useState(false);
  const { stack, stacktrace } = occurrence;
  return (
    <div className="border-line bg-sheet rounded-sm border">
      <p className="border-line border-b px-3 py-2 break-words">
        <b className="font-mono text-[13px]">{occurrence.type || "(no type)"}</b> <Message text={occurrence.message} />
      </p>
      {stack && !raw ? (
        stack.exceptions.map((exception, at) => <ExceptionView key={at} exception={exception} isFirst={at === 0} />)
      ) : (
        <pre
          role="region"
          tabIndex={0}
          aria-label="Stack text"
          className="overflow-x-auto px-3 py-2 font-mono text-[12px] whitespace-pre"
        >
          {stacktrace ?? "No stack text was kept with this occurrence."}
        </pre>
      )}
      {stack && stacktrace && (
        <button
          type="button"
          onClick={() => setRaw(!raw)}
          className="text-accent px-3 py-1.5 text-[13px] hover:underline"
        >
          {raw ? "as frames" : "as raw text"}
        </button>
      )}
    </div>
  );
}

/** Longest message shown at once, in characters. */
const SHOWN = 600;

function Message({ text }: { text: string }) {
  const [whole, setWhole] = useState(false);
  if (text.length <= SHOWN || whole) return <bdi className="[overflow-wrap:anywhere] whitespace-pre-wrap">{text}</bdi>;
  return (
    <>
      <bdi className="[overflow-wrap:anywhere] whitespace-pre-wrap">{text.slice(0, SHOWN)}…</bdi>{" "}
      <Button look="link" onClick={() => setWhole(true)}>
        all {text.length} characters
      </Button>
    </>
  );
}

const RELATIONS: Record<string, string> = {
  cause: "Caused by",
  handled: "While handling",
  member: "Member of the group",
};

function ExceptionView({ exception, isFirst }: { exception: Exception; isFirst: boolean }) {
  const firstOwn = runs(exception.frames).findIndex((run) => run.own);
  return (
    <div>
      {!isFirst && (
        <p className="border-line bg-wash border-y px-3 py-1.5 break-words">
          {RELATIONS[exception.relation] ?? exception.relation}:{" "}
          <b className="font-mono text-[13px]">{exception.type}</b> <Message text={exception.message} />
        </p>
      )}
      <ol>
        {runs(exception.frames).map((run, at) =>
          run.own ? (
            <Fragment key={at}>
              {run.frames.map((frame, index) => (
                <FrameView key={index} frame={frame} isFirst={isFirst && at === firstOwn && index === 0} />
              ))}
            </Fragment>
          ) : (
            <Library key={at} frames={run.frames} />
          ),
        )}
      </ol>
    </div>
  );
}

type Run = { own: boolean; frames: Frame[] };

/** Own frames, and runs of library frames between them. */
function runs(frames: Frame[]): Run[] {
  const found: Run[] = [];
  for (const frame of frames) {
    const last = found.at(-1);
    if (last && last.own === frame.own) last.frames.push(frame);
    else found.push({ own: frame.own, frames: [frame] });
  }
  return found;
}

function FrameView({ frame, isFirst = false }: { frame: Frame; isFirst?: boolean }) {
  const [open, setOpen] = useState(isFirst);
  const name = [frame.module, frame.function].filter(Boolean).join(".") || "(anonymous)";
  const place = `${frame.file}${frame.line ? `:${frame.line}` : ""}`;
  const variables = frame.variables ?? [];
  const hasMore = Boolean(frame.source) || variables.length > 0;
  return (
    <li className="border-line border-b px-3 py-1.5 last:border-b-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <b className="font-mono text-[13px] [overflow-wrap:anywhere]">{name}</b>
        {frame.link ? (
          <a
            href={frame.link}
            rel="noreferrer noopener"
            target="_blank"
            className="font-mono text-[13px] [overflow-wrap:anywhere]"
          >
            {place}
          </a>
        ) : (
          <span className="text-faint font-mono text-[13px] [overflow-wrap:anywhere]">{place}</span>
        )}
        {(frame.repeats ?? 0) > 0 && <span className="text-ochre text-[13px]">× {(frame.repeats ?? 0) + 1}</span>}
        {hasMore && (
          <Button look="link" aria-expanded={open} onClick={() => setOpen(!open)} className="text-[13px]">
            {open
              ? "fold"
              : [frame.source && "source", variables.length > 0 && counted(variables.length, "variable", "variables")]
                  .filter(Boolean)
                  .join(", ")}
          </Button>
        )}
        <span className="text-faint ml-auto text-[13px]">{frame.own ? "own" : "library"}</span>
      </div>
      {open && hasMore && (
        <div className="mt-1.5 grid gap-x-6 gap-y-2 md:grid-cols-[3fr_2fr]">
          {frame.source && <Source source={frame.source} line={frame.line ?? 0} />}
          {variables.length > 0 && (
            <dl className="font-mono text-[12px]" aria-label={`Variables of ${name}`}>
              {variables.map((variable) => (
                <div
                  key={variable.name}
                  className="border-line grid grid-cols-[minmax(4rem,auto)_1fr] gap-x-3 border-b py-0.5 last:border-b-0"
                >
                  <dt className="text-faint">{variable.name}</dt>
                  <dd className="[overflow-wrap:anywhere]">
                    <bdi>{variable.value}</bdi>
                  </dd>
                </div>
              ))}
            </dl>
          )}
        </div>
      )}
    </li>
  );
}

function Source({ source, line }: { source: NonNullable<Frame["source"]>; line: number }) {
  return (
    <div className="min-w-0">
      <ol className="overflow-x-auto font-mono text-[12px] leading-5">
        {source.lines.map((text, at) => {
          const number = source.first + at;
          return (
            <li
              key={number}
              className={`flex gap-x-3 whitespace-pre ${number === line ? "bg-wash font-semibold" : ""}`}
            >
              <span className="text-faint w-10 shrink-0 text-right select-none">
                {number === line && <span className="sr-only">failed in line </span>}
                {number}
              </span>
              <span>{text}</span>
            </li>
          );
        })}
      </ol>
      <p className="text-faint text-[12px]">
        {source.from === "sender"
          ? "as the sender gave it"
          : source.from === "HEAD"
            ? "from the checkout as it is now: the revision that ran is not in it"
            : `from the checkout at ${source.from}`}
      </p>
    </div>
  );
}

function Library({ frames }: { frames: Frame[] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <li className="border-line border-b last:border-b-0">
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="text-faint hover:bg-wash w-full px-3 py-1.5 text-left text-[13px]"
        >
          <span aria-hidden="true">{open ? "▾" : "▸"}</span> {counted(frames.length, "library frame", "library frames")}
        </button>
      </li>
      {open && frames.map((frame, at) => <FrameView key={at} frame={frame} />)}
    </>
  );
}

/** The request sorted for people, with what names it elsewhere. */
function Request({ occurrence, narrow }: { occurrence: OccurrenceDetail; narrow: (test: string) => void }) {
  const named: [string, string | null | undefined][] = [
    ["endpoint", occurrence.endpoint],
    ["host", occurrence.host],
    ["trace", occurrence.trace_id],
    ["span", occurrence.span_id],
  ];
  const rows = named.flatMap(([label, value]) =>
    value ? [{ label, value, attribute: NOT_FIELDS.includes(label) ? "" : label }] : [],
  );
  const parts = [...(occurrence.request ?? []), { title: "Where", rows }].filter((part) => part.rows.length > 0);
  if (parts.length === 0) return <p className="text-faint py-3">Nothing was sent about a request.</p>;
  return (
    <div className="gap-x-8 md:columns-2">
      {parts.map((part) => (
        <section key={part.title} className="mb-3 break-inside-avoid">
          <h3 className="font-semibold">{part.title}</h3>
          <Facts
            facts={part.rows.map(({ label, value, attribute }) => ({
              name: label,
              value,
              shown: label === "trace" && (
                <Link
                  to="/traces/$id"
                  params={{ id: value }}
                  search={occurrence.span_id ? { span: occurrence.span_id } : {}}
                >
                  {value}
                </Link>
              ),
              action: attribute && <OnlyThese name={attribute} label={label} value={value} narrow={narrow} />,
            }))}
          />
        </section>
      ))}
    </div>
  );
}

/** Names of predicates' fields that are no attributes, and cannot be narrowed by here. */
const NOT_FIELDS = ["host", "span"];

function Data({ title, data, narrow }: { title: string; data: unknown; narrow: (test: string) => void }) {
  const entries = Object.entries((data ?? {}) as Record<string, unknown>);
  return (
    <>
      <h3 className="mt-3 font-semibold">{title}</h3>
      {entries.length === 0 && <p className="text-faint">Nothing was sent.</p>}
      <Facts
        areAttributes
        names="wide"
        facts={entries.map(([name, value]) => ({
          name,
          value,
          action: !NOT_FIELDS.includes(name) && <OnlyThese name={name} label={name} value={value} narrow={narrow} />,
        }))}
      />
    </>
  );
}

type OnlyTheseProps = { name: string; label: string; value: unknown; narrow: (test: string) => void };

/** Longest value that a predicate is narrowed to. */
const LONGEST = 200;

/** Narrows to occurrences with this value; of what is no text and no number there is no such test. */
function OnlyThese({ name, label, value, narrow }: OnlyTheseProps) {
  if ((typeof value !== "string" && typeof value !== "number") || String(value).length > LONGEST) return null;
  return (
    <Button
      look="link"
      onClick={() => narrow(testOf(name, String(value)))}
      className="ml-3 font-sans"
      aria-label={`Only where ${label} is ${value}`}
    >
      only these
    </Button>
  );
}
