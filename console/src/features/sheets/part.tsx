import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { lazy, Suspense } from "react";
import { reading } from "../../api/client";
import { Picture, Rows } from "../../parts/answer";
import { MetricChart } from "../../parts/metric-chart";
import { type Answer, type QuestionParts, shown, written } from "../../parts/question-words";
import { Failed } from "../../ui/states";
import type { SheetPart } from "../../parts/sheet";

// What reads Markdown is as large as the rest of the page.
const Markdown = lazy(() => import("../../ui/markdown"));

/** What all questions of a sheet are asked of. */
export type SheetScope = { service?: string; environment?: string; since?: string; from?: string; to?: string };

type Props = {
  part: SheetPart;
  /** The text of its question; null where it is text, or its saved question was removed. */
  question: string | null;
  scope: SheetScope;
};

/** Text, or what a question comes to now. */
export function Part({ part, question, scope }: Props) {
  const title = part.title || part.saved || part.metric;
  return (
    <>
      {title && (
        <h2 className="border-line border-b pb-1 font-semibold break-words">
          {part.metric != null ? (
            <Link
              to="/traffic"
              search={{
                ...scope,
                view: "metrics",
                metric: part.metric,
                by: part.by ?? undefined,
                together: part.together ?? undefined,
              }}
              className="text-ink"
            >
              {title}
            </Link>
          ) : question === null ? (
            title
          ) : (
            <Link
              to="/ask"
              search={{ ...scope, question, saved: part.saved ?? undefined }}
              title={`Ask: ${question}`}
              className="text-ink"
            >
              {title}
            </Link>
          )}
        </h2>
      )}
      {part.text != null ? (
        <div className="mt-2 space-y-2 break-words">
          <Suspense fallback={<p className="whitespace-pre-wrap">{part.text}</p>}>
            <Markdown text={part.text} />
          </Suspense>
        </div>
      ) : part.metric != null ? (
        <Metric name={part.metric} by={part.by} together={part.together} scope={scope} />
      ) : question === null ? (
        <p className="text-faint mt-2">The question that was saved as {part.saved} was removed.</p>
      ) : (
        <Asked question={question} scope={scope} title={title || question} />
      )}
    </>
  );
}

type MetricProps = {
  name: string;
  by: string | null | undefined;
  together: string | null | undefined;
  scope: SheetScope;
};

function Metric({ name, by, together, scope }: MetricProps) {
  const navigate = useNavigate();
  const query = { ...scope, ...(by && { by }), ...(together && { together }) };
  const course = useQuery({
    ...reading("/api/v1/metrics/{name}", { params: { path: { name }, query } }),
    staleTime: 30_000,
    placeholderData: (before) => before,
  });
  if (course.isPending)
    return <div className="bg-wash my-3 h-40 motion-safe:animate-pulse" role="status" aria-label={`Loading ${name}`} />;
  if (course.isLoadingError) return <Failed what={name} error={course.error} retry={() => void course.refetch()} />;
  if (course.data.lines.length === 0) return <p className="text-faint mt-2">Nothing came in this time.</p>;
  const onWindow = (from: Date, to: Date) =>
    void navigate({
      to: "/traffic",
      search: {
        ...scope,
        since: undefined,
        from: from.toISOString(),
        to: to.toISOString(),
        view: "metrics",
        metric: name,
        ...(by && { by }),
      },
    });
  return <MetricChart course={course.data} onWindow={onWindow} />;
}

function Asked({ question, scope, title }: { question: string; scope: SheetScope; title: string }) {
  const navigate = useNavigate();
  const answer = useQuery({
    ...reading("/api/v1/ask", { params: { query: { question, ...scope } } }),
    staleTime: 30_000,
    placeholderData: (before) => before,
  });
  const onAsk = (parts: QuestionParts) => void navigate({ to: "/ask", search: { ...scope, question: written(parts) } });
  if (answer.isPending)
    return (
      <div className="bg-wash my-3 h-40 motion-safe:animate-pulse" role="status" aria-label={`Loading ${title}`} />
    );
  if (answer.isLoadingError) return <Failed what={title} error={answer.error} retry={() => void answer.refetch()} />;
  const { parts, groups, step_ms: stepMs } = answer.data;
  return (
    <div
      aria-busy={answer.isPlaceholderData}
      className={`max-w-full overflow-x-auto ${answer.isPlaceholderData ? "opacity-50" : ""}`}
    >
      {groups === 0 ? (
        <p className="text-faint mt-2">Nothing matches.</p>
      ) : stepMs != null ? (
        <Picture answer={answer.data} onAsk={onAsk} />
      ) : parts.by.length === 0 ? (
        <Figures answer={answer.data} />
      ) : (
        <Rows answer={answer.data} onAsk={onAsk} isNarrow />
      )}
      {answer.data.note && (
        <p className="text-faint mt-1 text-[13px]">{`${answer.data.note.charAt(0).toUpperCase()}${answer.data.note.slice(1)}.`}</p>
      )}
    </div>
  );
}

/** A few figures that can be read from afar. */
function Figures({ answer }: { answer: Answer }) {
  return (
    <dl className="mt-2 flex flex-wrap gap-x-8 gap-y-2">
      {answer.columns.map((column, at) => (
        <div key={column.name}>
          <dt className="text-faint">{column.name}</dt>
          <dd className="text-2xl font-bold tabular-nums">{shown(answer.total.values[at], column.kind)}</dd>
        </div>
      ))}
    </dl>
  );
}
