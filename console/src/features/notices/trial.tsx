import { Link } from "@tanstack/react-router";
import type { components } from "../../api/generated/schema";
import { exact } from "../../ui/format";
import { Callout } from "../../ui/kit";
import { type Column, Table } from "../../ui/table";

type Result = components["schemas"]["NoticeTrialResult"];
type Tried = components["schemas"]["TriedNotice"];

const COLUMNS: Column<Tried>[] = [
  { name: "at", cell: (row) => exact(row.at), value: (row) => row.at },
  { name: "by", cell: (row) => row.ways.join(", "), value: (row) => row.ways.join(", ") },
  { name: "to", cell: (row) => row.to, value: (row) => row.to },
  { name: "what it is about", cell: (row) => <Subject row={row} />, value: (row) => row.subject },
];

/** What is said, as a link where it is of one error. */
function Subject({ row }: { row: Tried }) {
  const [ref, ...others] = row.references;
  if (ref === undefined || others.length > 0) return row.subject;
  return (
    <Link to="/errors/$ref" params={{ ref }}>
      {row.subject}
    </Link>
  );
}

/** What a rule would have sent over the past week. */
export function Trial({ result }: { result: Result }) {
  return (
    <section aria-label="Trial" className="mt-4">
      <p role="status" className="font-semibold">
        {result.answer}{" "}
        {result.count === 0 && <span className="text-faint font-normal">{result.events} events were looked at.</span>}
      </p>
      {result.troubles.length > 0 && (
        <Callout tone="open">
          {result.troubles.map((trouble) => (
            <p key={trouble}>{trouble}</p>
          ))}
        </Callout>
      )}
      {result.items.length > 0 && (
        <Table
          label="What it would have sent"
          columns={COLUMNS}
          rows={result.items}
          keyOf={(row) => `${row.at} ${row.to} ${row.ways.join()} ${row.subject}`}
          total={result.count}
        />
      )}
    </section>
  );
}
