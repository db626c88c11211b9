import { useQuery } from "@tanstack/react-query";
import { reading } from "../../api/client";
import { Button, Select } from "../../ui/kit";
import { type QuestionParts, without } from "../../parts/question-words";

type Props = { parts: QuestionParts; onChange: (parts: QuestionParts) => void };

/** Measures that only records of these sources have. */
const ONLY: Record<string, readonly string[]> = {
  failed: ["requests"],
  share: ["requests"],
  errors: ["occurrences"],
};

const MEASURES = [
  "count",
  "failed",
  "share",
  "users",
  "errors",
  "services",
  "first",
  "last",
  "mean duration",
  "p50 duration",
  "p95 duration",
  "p99 duration",
];

/** The same question by clicks: each part is taken away, added or changed, and the text follows. */
export function Builder({ parts, onChange }: Props) {
  const start = `count of ${parts.source} by `;
  const fields = useQuery({
    ...reading("/api/v1/ask/complete", { params: { query: { text: start } } }),
    staleTime: 60_000,
  });
  const names = (fields.data?.offers ?? []).filter((name) => !parts.by.includes(name));
  const measures = MEASURES.filter((measure) => !parts.measures.includes(measure));
  const offered = measures.filter((measure) => ONLY[measure]?.includes(parts.source) ?? true);
  const choose = (change: Partial<QuestionParts>) => onChange({ ...parts, ...change });
  return (
    <div
      className="flex flex-wrap items-center gap-x-4 gap-y-2 text-[13px]"
      role="group"
      aria-label="The question by its parts"
    >
      <Chips name="Measures" columns={parts.measures} least={1} onRemove={(column) => onChange(without(parts, column))}>
        <Add
          label="Add a measure"
          options={offered}
          onAdd={(measure) => choose({ measures: [...parts.measures, measure] })}
        />
      </Chips>
      <label>
        of{" "}
        <Select
          value={parts.source}
          options={["occurrences", "requests", "lines"].map((source) => [source, source] as const)}
          onChange={(source) =>
            onChange({
              ...parts,
              source,
              // What the other records may not have goes.
              measures: ["count"],
              by: parts.by.filter((name) => ["service", "environment", "version"].includes(name)),
              order: null,
              where: null,
            })
          }
        />
      </label>
      <Chips name="by" columns={parts.by} least={0} onRemove={(column) => onChange(without(parts, column))}>
        {parts.by.length < 4 && (
          <Add label="Group by" options={names} onAdd={(field) => choose({ by: [...parts.by, field] })} />
        )}
      </Chips>
      {parts.where && (
        <span className="flex items-center gap-1">
          where{" "}
          <code className="max-w-80 truncate font-mono" title={parts.where}>
            {parts.where}
          </code>
          <Remove what="the condition" onClick={() => choose({ where: null })} />
        </span>
      )}
      <Choose
        label="Step over time"
        value={parts.each}
        options={["5m", "15m", "1h", "6h", "1d"].map((step) => [step, `each ${step}`] as const)}
        none="no steps"
        word="each"
        onChange={(each) => choose({ each })}
      />
      {parts.by.length > 0 && (
        <Choose
          label="Groups shown"
          value={parts.top == null ? null : String(parts.top)}
          options={["5", "10", "50", "100"].map((top) => [top, `top ${top}`] as const)}
          none="top 20"
          word="top"
          onChange={(top) => choose({ top: top === null ? null : Number(top) })}
        />
      )}
      <Choose
        label="Compared with"
        value={parts.against}
        options={[
          ["before", "against before"],
          ["1d earlier", "against 1d earlier"],
          ["7d earlier", "against 7d earlier"],
        ]}
        none="against nothing"
        word="against"
        onChange={(against) => choose({ against })}
      />
    </div>
  );
}

type ChipsProps = {
  name: string;
  columns: readonly string[];
  /** How many must stay. */
  least: number;
  onRemove: (column: string) => void;
  children: React.ReactNode;
};

function Chips({ name, columns, least, onRemove, children }: ChipsProps) {
  return (
    <span className="flex flex-wrap items-center gap-1">
      <span className="text-faint">{name}</span>
      {columns.map((column) => (
        <span key={column} className="border-line bg-sheet flex items-center rounded-sm border pl-2 font-mono">
          {column}
          {columns.length > least ? (
            <Remove what={column} onClick={() => onRemove(column)} />
          ) : (
            <span className="w-2" />
          )}
        </span>
      ))}
      {children}
    </span>
  );
}

function Remove({ what, onClick }: { what: string; onClick: () => void }) {
  return (
    <Button
      look="link"
      aria-label={`Remove ${what}`}
      title={`Remove ${what}`}
      onClick={onClick}
      className="min-w-6 px-1.5"
    >
      ×
    </Button>
  );
}

function Add({
  label,
  options,
  onAdd,
}: {
  label: string;
  options: readonly string[];
  onAdd: (option: string) => void;
}) {
  if (options.length === 0) return null;
  return (
    <Select
      label={label}
      value=""
      options={[["", `+ ${label.toLowerCase()}`] as const, ...options.map((option) => [option, option] as const)]}
      onChange={(option) => option !== "" && onAdd(option)}
    />
  );
}

type ChooseProps = {
  label: string;
  value: string | null | undefined;
  options: readonly (readonly [value: string, words: string])[];
  none: string;
  /** What stands before a value that is none of the options. */
  word: string;
  onChange: (value: string | null) => void;
};

function Choose({ label, value, options, none, word, onChange }: ChooseProps) {
  const known =
    value == null || options.some(([each]) => each === value)
      ? options
      : [[value, `${word} ${value}`] as const, ...options];
  return (
    <Select
      label={label}
      value={value ?? ""}
      options={[["", none] as const, ...known]}
      onChange={(chosen) => onChange(chosen === "" ? null : chosen)}
    />
  );
}
