import { useQuery } from "@tanstack/react-query";
import { type GroupItem, reading } from "../../api/client";
import { count, duration } from "../../ui/format";
import { Failed } from "../../ui/states";
import { isWorse, useScope } from "./scope";
import { type Column, Table } from "../../ui/table";
import { FailedOf, Heading } from "../../ui/kit";

const millis = (value: number | null | undefined) => (value == null ? "—" : duration(value));

const COLUMNS: Column<GroupItem>[] = [
  { name: "group", isCode: true, value: (item) => item.group, cell: (item) => item.group },
  { name: "requests", isNumber: true, value: (item) => item.count, cell: (item) => count(item.count) },
  {
    name: "failed",
    isNumber: true,
    value: (item) => item.failed,
    cell: (item) => <FailedOf failed={item.failed} of={item.count} />,
  },
  { name: "p50", isNumber: true, value: (item) => item.p50_ms, cell: (item) => millis(item.p50_ms) },
  { name: "p95", isNumber: true, value: (item) => item.p95_ms, cell: (item) => millis(item.p95_ms) },
  { name: "p99", isNumber: true, value: (item) => item.p99_ms, cell: (item) => millis(item.p99_ms) },
  {
    name: "4xx",
    isNumber: true,
    value: (item) => item.statuses[3] ?? 0,
    cell: (item) => count(item.statuses[3] ?? 0),
  },
  {
    name: "5xx",
    isNumber: true,
    value: (item) => item.statuses[4] ?? 0,
    cell: (item) => count(item.statuses[4] ?? 0),
  },
  {
    name: "against the others",
    value: (item) => item.changes.join(", "),
    cell: ({ changes }) =>
      changes.length === 0 ? (
        <span className="text-faint">nothing shown</span>
      ) : (
        <span className={isWorse(changes) ? "text-brick" : "text-moss"}>{changes.join(", ")}</span>
      ),
  },
];

/** What the instance groups of the service in scope serve, each against the others; nothing where nobody said what tells them apart. */
export function Groups({ service, endpoint }: { service: string; endpoint: string | undefined }) {
  const { query } = useScope();
  const groups = useQuery(
    reading("/api/v1/endpoints/groups", {
      params: { query: { ...query, service, ...(endpoint && { endpoint }) } },
    }),
  );
  if (groups.isPending) return null;
  if (groups.isLoadingError)
    return <Failed what="The instance groups" error={groups.error} retry={() => void groups.refetch()} />;
  const { attribute, items } = groups.data;
  if (!attribute) return null;
  const differing = items.filter((item) => item.changes.length > 0);
  return (
    <section aria-label="Instance groups" className="mt-6">
      <Heading>
        {items.length === 0
          ? "No request named its instance group"
          : differing.length === 0
            ? "No instance group is shown to differ from the others"
            : differing.map((item) => `${item.group} ${item.changes.join(" and is ")}`).join("; ")}
        <span className="text-faint ml-2 font-normal">
          told apart by <code>{attribute}</code>, since that was said
        </span>
      </Heading>
      {items.length > 0 && (
        <Table label="Instance groups" columns={COLUMNS} rows={items} keyOf={(item) => item.group} />
      )}
    </section>
  );
}
