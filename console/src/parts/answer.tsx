import { Link } from "@tanstack/react-router";
import { Button } from "../ui/kit";
import { OverTime, type Series } from "../ui/over-time";
import { type Column, Table } from "../ui/table";
import { narrowed, testOf } from "./predicate-box";
import { type Answer, type AnswerRow, change, offBy, type QuestionParts, shown } from "./question-words";

/** An answer, and what is asked instead by a click. */
export type AnswerProps = { answer: Answer; onAsk: (parts: QuestionParts) => void };

/** Layers drawn by themselves; the others are one. */
const LAYERS = 6;

/** The first measure over time, where the question says `each`. */
export function Picture({ answer, onAsk }: AnswerProps) {
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

/** The groups as a table: every value narrows, every count opens what it counts. `isNarrow`: without bars. */
export function Rows({ answer, onAsk, isNarrow = false }: AnswerProps & { isNarrow?: boolean }) {
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
  if (keys.length > 0 && most > 0 && !isNarrow) {
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
