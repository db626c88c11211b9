import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useRef } from "react";
import { Refusal, reading, windowOf } from "../../api/client";
import { counted, minute, windowInWords } from "../../ui/format";
import { useHotkeys } from "../../ui/hotkeys";
import { Answer as Said, Callout, DocsLink, Heading } from "../../ui/kit";
import { QuestionBox } from "../../parts/question-box";
import { type AnswerProps, Picture, Rows } from "../../parts/answer";
import { type Answer, type AnswerRow, READY, RECORDS, shown, written } from "../../parts/question-words";
import { Failed, Skeleton } from "../../ui/states";

import { Builder } from "./builder";
import { Save, SavedQuestions } from "./saved";

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
          <p className="mt-4">
            Pages of several questions and text are <Link to="/sheets">sheets</Link>.
          </p>
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
      <Heading
        note={
          <>
            change any of them once it is answered;{" "}
            <DocsLink page="reference/questions">the question language</DocsLink>
          </>
        }
      >
        Questions to start from
      </Heading>
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

function Shown({ answer, onAsk }: AnswerProps) {
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
