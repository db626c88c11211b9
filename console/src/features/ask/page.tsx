import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useRef } from "react";
import { Refusal, reading, windowOf } from "../../api/client";
import { counted, minute, windowInWords } from "../../ui/format";
import { useHotkeys } from "../../ui/hotkeys";
import { Answer as Said, Button, Callout, Heading } from "../../ui/kit";
import { OverTime, type Series } from "../../ui/over-time";
import { narrowed, testOf } from "../../parts/predicate-box";
import { Failed, Skeleton } from "../../ui/states";
import { type Column, Table } from "../../ui/table";
import { QuestionBox } from "./box";
import { Builder } from "./builder";
import { Save, SavedQuestions } from "./saved";
import {
  type Answer,
  type AnswerRow,
  change,
  offBy,
  type QuestionParts,
  READY,
  RECORDS,
  shown,
  written,
} from "./words";

/** Any question over all that is kept. */
export function AskPage() {
  const search = useSearch({ from: "/inside/ask" });
  const navigate = useNavigate();
  const field = useRef<HTMLInputElement>(null);
  useHotkeys({ "/": () => field.current?.focus() });
  const { question } = search;
  const ask = (question: string | undefined) => void navigate({ to: "/ask", search: (now) => ({ ...now, question }) });
  const scope = {
    ...(search.service && { service: search.service }),
    ...(search.environment && { environment: search.environment }),
    ...(Object.fromEntries(Object.entries(windowOf(search)).filter(([, value]) => value !== undefined)) as Record<
      string,
      string
    >),
  };
  const answer = useQuery({
    ...reading("/api/v1/ask", { params: { query: { question: question ?? "", ...scope } } }),
    enabled: question !== undefined,
    staleTime: 30_000,
    placeholderData: (before) => before,
  });
  const mistake = answer.error instanceof Refusal && answer.error.status === 400 ? answer.error : null;
  return (
    <>
      <Said>
        {question !== undefined && answer.data && !answer.error ? (
          <Sentence answer={answer.data} />
        ) : (
          "Ask anything of the failures, requests and log lines that are kept."
        )}
      </Said>
      <QuestionBox value={question} onAsk={ask} field={field} />
      {question === undefined && (
        <>
          <SavedQuestions />
          <Ready />
        </>
      )}
      {question !== undefined && answer.isPending && <Skeleton rows={8} />}
      {mistake && <Callout tone="bad">{mistake.message}</Callout>}
      {answer.error && !mistake && (
        <Failed what="The answer" error={answer.error} retry={() => void answer.refetch()} />
      )}
      {question !== undefined && answer.data && !answer.error && (
        <div className={answer.isPlaceholderData ? "opacity-50" : ""} aria-busy={answer.isPlaceholderData}>
          <Builder parts={answer.data.parts} onChange={(parts) => ask(written(parts))} />
          <Save
            question={answer.data.question}
            name={search.saved}
            onSaved={(saved) => void navigate({ to: "/ask", search: (now) => ({ ...now, saved }) })}
          />
          <Shown answer={answer.data} onAsk={(parts) => ask(written(parts))} />
        </div>
      )}
    </>
  );
}

/** What the question came to, in one sentence. */
function Sentence({ answer }: { answer: Answer }) {
  const { parts, groups } = answer;
  const place = parts.measures.indexOf("count");
  const total = answer.total.values[place];
  const [one, many] = RECORDS[parts.source] ?? ["record", "records"];
  const records = typeof total === "number" ? counted(total, one, many) : null;
  const inGroups = parts.by.length > 0 ? counted(groups, "group", "groups") : null;
  if (groups === 0 || total === 0) return <>No {one} matches.</>;
  return <>{[records, inGroups].filter(Boolean).join(" in ") || counted(groups, "answer", "answers")}.</>;
}

/** Questions to start from. */
function Ready() {
  return (
    <section aria-label="Questions to start from" className="mt-4">
      <Heading note="change any of them once it is answered">Questions to start from</Heading>
      <ul className="mt-1">
        {READY.map(([words, question]) => (
          <li key={question} className="border-line border-b py-2">
            <Link to="/ask" search={(now) => ({ ...now, question, saved: undefined })} className="font-semibold">
              {words}
            </Link>
            <span className="text-faint block font-mono text-[13px] break-words">{question}</span>
          </li>
        ))}
      </ul>
      <p className="text-faint mt-3">
        A question reads: what to count, <code>of</code> occurrences, requests or lines, <code>by</code> up to four
        fields or attributes, <code>where</code> a predicate holds, <code>each</code> step over time, <code>top</code>{" "}
        so many, <code>over</code> a time, <code>against</code> another. Without <code>over</code> it is asked of the
        window above.
      </p>
    </section>
  );
}

type ShownProps = { answer: Answer; onAsk: (parts: QuestionParts) => void };

function Shown({ answer, onAsk }: ShownProps) {
  const { parts } = answer;
  const keys = parts.by.length;
  if (answer.groups === 0) {
    return (
      <p className="text-faint mt-4">
        {answer.note ??
          `Nothing matches between ${minute(answer.from)} and ${minute(answer.to)}: take a condition away, or ask over a longer time.`}
      </p>
    );
  }
  const period = answer.against && `; against ${windowInWords(answer.against)}`;
  return (
    <>
      {answer.step_ms != null && <Picture answer={answer} onAsk={onAsk} />}
      <Rows answer={answer} onAsk={onAsk} />
      {keys > 0 && (
        <p className="mt-1 tabular-nums">
          {answer.others && answer.groups > answer.rows.length && (
            <>
              {counted(answer.groups - answer.rows.length, "other group", "other groups")}:{" "}
              {inWords(answer, answer.others)}.{" "}
            </>
          )}
          All together: {inWords(answer, answer.total)}.
        </p>
      )}
      <p className="text-faint mt-1 text-[13px]">
        {windowInWords({ from: answer.from, to: answer.to })}
        {period}. {answer.note && `${answer.note.charAt(0).toUpperCase()}${answer.note.slice(1)}.`}
      </p>
    </>
  );
}

/** All measures of a row in one line. */
function inWords(answer: Answer, row: AnswerRow): string {
  const columns = answer.columns.slice(answer.parts.by.length);
  return columns.map((column, at) => `${column.name} ${shown(row.values[at], column.kind)}`).join(", ");
}

/** Layers drawn by themselves; the others are one. */
const LAYERS = 6;

function Picture({ answer, onAsk }: ShownProps) {
  const { parts, rows, others, total } = answer;
  const [first] = answer.columns.slice(parts.by.length);
  const addUp = first !== undefined && (["count", "failed"].includes(first.name) || first.name.startsWith("sum "));
  const of = (row: AnswerRow) => row.steps.map((step) => (typeof step[0] === "number" ? step[0] : addUp ? 0 : null));
  const drawn = rows.slice(0, LAYERS);
  const series: Series[] = drawn.map((row) => ({
    name: row.keys.map((key) => key || "(not set)").join(" · ") || (first?.name ?? ""),
    values: of(row),
  }));
  if (addUp && (others || rows.length > LAYERS)) {
    const all = of(total);
    const left = all.map(
      (value, step) => (value ?? 0) - series.reduce((sum, { values }) => sum + (values[step] ?? 0), 0),
    );
    series.push({ name: "all others", values: left, isRest: true });
  }
  if (first === undefined || !["count", "number", "share"].includes(first.kind) || answer.step_ms == null) return null;
  return (
    <OverTime
      label={first.name}
      from={answer.from}
      stepMs={answer.step_ms}
      series={series}
      addUp={addUp}
      shown={(value) => shown(value, first.kind)}
      onWindow={(from, to) => onAsk({ ...parts, window: `from ${from.toISOString()} to ${to.toISOString()}` })}
    />
  );
}

function Rows({ answer, onAsk }: ShownProps) {
  const { parts, against } = answer;
  const keys = answer.columns.slice(0, parts.by.length);
  const measures = answer.columns.slice(parts.by.length);
  const most = Math.max(0, ...answer.rows.map((row) => (typeof row.values[0] === "number" ? row.values[0] : 0)));
  const columns: Column<AnswerRow>[] = [
    ...keys.map((column, at): Column<AnswerRow> => ({
      name: column.name,
      isCode: true,
      value: (row) => row.keys[at],
      cell: (row) => <Key answer={answer} row={row} at={at} onAsk={onAsk} />,
    })),
    ...measures.flatMap((column, at): Column<AnswerRow>[] => {
      const isNumber = ["count", "number", "share"].includes(column.kind);
      const isEstimated = column.name === "count";
      const now: Column<AnswerRow> = {
        name: column.name,
        isNumber,
        value: (row) => row.values[at] as string | number | undefined,
        cell: (row) =>
          at === 0 ? (
            <>
              <Records answer={answer} row={row}>
                {shown(row.values[at], column.kind)}
              </Records>
              {isEstimated && <OffBy row={row} />}
            </>
          ) : (
            <>
              {shown(row.values[at], column.kind)}
              {isEstimated && <OffBy row={row} />}
            </>
          ),
      };
      const then: Column<AnswerRow> = {
        name: `${column.name} before`,
        isNumber,
        value: (row) => row.before?.[at] as string | number | undefined,
        cell: (row) => (
          <span className="whitespace-nowrap">
            {shown(row.before?.[at], column.kind)}{" "}
            <span className="text-faint text-[12px]">{change(row.values[at], row.before?.[at])}</span>
          </span>
        ),
      };
      return against && isNumber ? [now, then] : [now];
    }),
  ];
  if (keys.length > 0 && most > 0) {
    columns.push({
      name: `${measures[0]?.name ?? ""} as bars`,
      cell: (row) => {
        const value = typeof row.values[0] === "number" ? row.values[0] : 0;
        return (
          <span aria-hidden="true" className="block w-40">
            <span
              className="bg-layer-3 block h-2.5 min-w-px"
              style={{ width: `${Math.max(0, (value / most) * 100)}%` }}
            />
          </span>
        );
      },
    });
  }
  return <Table label="Answer" columns={columns} rows={answer.rows} keyOf={(row) => row.keys.join("\u0000")} />;
}

type CellProps = { answer: Answer; row: AnswerRow };

/** A value that is grouped by: narrows to it; of an error, leads to its page. */
function Key({ answer, row, at, onAsk }: CellProps & { at: number; onAsk: (parts: QuestionParts) => void }) {
  const key = row.keys[at] ?? "";
  const by = answer.parts.by[at] ?? "";
  if (by === "error" && key !== "")
    return (
      <Link
        to="/errors/$ref"
        params={{ ref: key }}
        search={{ from: answer.from, to: answer.to }}
        className="max-md:underline"
      >
        {key}
      </Link>
    );
  const test = key === "" ? `${by} is not set` : testOf(by, key);
  const text = key === "" ? <span className="text-faint">(not set)</span> : key;
  if (row.where == null) return text;
  const where = narrowed(answer.parts.where ?? undefined, test);
  const left = answer.parts.by.filter((_, place) => place !== at);
  return (
    <Button
      look="link"
      className="text-left font-mono break-words"
      title={`Narrow to ${test}`}
      onClick={() =>
        onAsk({ ...answer.parts, where, by: left, order: null, top: left.length > 0 ? answer.parts.top : null })
      }
    >
      {text}
    </Button>
  );
}

function OffBy({ row }: { row: AnswerRow }) {
  const said = offBy(row);
  return said && <span className="text-faint ml-1 text-[12px] whitespace-nowrap">{said}</span>;
}

/** A number that opens the records it counts. */
function Records({ answer, row, children }: CellProps & { children: string }) {
  const time = { from: answer.from, to: answer.to, since: undefined };
  if (row.where == null && answer.parts.by.length > 0) return children;
  const where = row.where ?? undefined;
  if (answer.parts.source === "requests") {
    // Requests are listed by service, environment and endpoint alone.
    const { by } = answer.parts;
    const isListed = by.every((name) => ["service", "environment", "endpoint"].includes(name));
    if (!isListed || answer.parts.where) return children;
    const named = Object.fromEntries(by.map((name, at) => [name, row.keys[at] ?? ""]));
    return (
      <Link
        to="/traffic"
        className="max-md:underline"
        search={(now) => ({ ...now, ...time, question: undefined, saved: undefined, view: "requests", ...named })}
      >
        {children}
      </Link>
    );
  }
  return answer.parts.source === "lines" ? (
    <Link
      to="/traffic"
      className="max-md:underline"
      search={(now) => ({ ...now, ...time, question: undefined, saved: undefined, view: "logs", where })}
    >
      {children}
    </Link>
  ) : (
    <Link
      to="/errors"
      className="max-md:underline"
      search={(now) => ({ ...now, ...time, question: undefined, saved: undefined, where })}
    >
      {children}
    </Link>
  );
}
