import { useQuery } from "@tanstack/react-query";
import { reading } from "../api/client";
import { OverTime, type Series } from "../ui/over-time";
import { Failed } from "../ui/states";

type Props = {
  /** A question over time; its first measure is drawn. */
  question: string;
  /** The scope that it is asked in, as the API takes it. */
  scope?: Record<string, string>;
  /** What is drawn. */
  label: string;
  /** What the chart is of, in case it cannot be read. */
  what: string;
  /** Whether the groups add up, and lie on each other; else each is a line. */
  addUp: boolean;
  shown: (value: number | null) => string;
  onWindow: (from: Date, to: Date) => void;
};

/** What a question comes to over time; nothing where no record matches. */
export function AskedOverTime({ question, scope = {}, label, what, addUp, shown, onWindow }: Props) {
  const answer = useQuery({
    ...reading("/api/v1/ask", { params: { query: { ...scope, question } } }),
    placeholderData: (before) => before,
  });
  if (answer.isPending)
    return <div className="bg-wash my-3 h-40 motion-safe:animate-pulse" role="status" aria-label={`Loading ${what}`} />;
  if (answer.isLoadingError) return <Failed what={what} error={answer.error} retry={() => void answer.refetch()} />;
  const { rows, others, from, step_ms: stepMs } = answer.data;
  if (rows.length === 0 || stepMs == null) return null;
  const none = addUp ? 0 : null;
  const values = (steps: unknown[][]) => steps.map((step) => (typeof step[0] === "number" ? step[0] : none));
  const series: Series[] = rows.map((row) => ({
    name: row.keys.map((key) => key || "(not set)").join(" · "),
    values: values(row.steps),
  }));
  if (others && addUp) series.push({ name: "all others", values: values(others.steps), isRest: true });
  return (
    <div aria-busy={answer.isPlaceholderData} className={answer.isPlaceholderData ? "opacity-50" : undefined}>
      <OverTime
        label={label}
        from={from}
        stepMs={stepMs}
        series={series}
        addUp={addUp}
        shown={shown}
        onWindow={onWindow}
      />
    </div>
  );
}
