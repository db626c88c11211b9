import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { lazy, Suspense } from "react";
import { type CallItem, reading } from "../../api/client";
import { count, counted, duration, percent, windowInWords } from "../../ui/format";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { useOrder, useScope } from "./scope";
import { type Column, Table } from "../../ui/table";
import { Answer, FailedOf } from "../../ui/kit";

const CallMap = lazy(() => import("./call-map"));

export const whom = (item: CallItem) => item.to_service ?? item.name;

const kind = (item: CallItem) => (item.kind === "consumed" ? "taken from" : item.kind);

const failing = (item: CallItem) => (item.count === 0 ? 0 : item.failed / item.count);

/** Who calls whom. */
export function Calls() {
  const { search, query, then } = useScope();
  const sorting = useOrder();
  const calls = useQuery(
    reading("/api/v1/calls", {
      params: { query: { ...query, ...(search.against && { against: search.against }), limit: 500 } },
    }),
  );
  if (calls.isPending) return <Skeleton isPage rows={10} />;
  if (calls.isLoadingError)
    return <Failed isPage what="The calls" error={calls.error} retry={() => void calls.refetch()} />;
  const { items } = calls.data;
  const [first] = items;
  if (!first) {
    return (
      <>
        <h1 className="sr-only">Calls</h1>
        <Empty title={`No service called another, a database or a queue in ${windowInWords(search)}.`}>
          <p>
            Calls are counted from spans of kind client, producer and consumer. A service without them has its
            instrumentation for calls switched off.
          </p>
        </Empty>
      </>
    );
  }
  // Many failures of few calls outweigh all failures of two.
  const weight = (item: CallItem) => item.failed * failing(item);
  const worst = items.reduce((one, other) => (weight(other) > weight(one) ? other : one));
  return (
    <>
      <Answer>
        {failing(worst) > 0 ? (
          <>
            <span className="text-brick">
              {failing(worst) === 1 ? `All ${count(worst.count)}` : percent(failing(worst))} of {worst.service}’s calls
              to {whom(worst)} {failing(worst) === 1 ? "failed" : "fail"}
            </span>
            ; most time goes from {first.service} to {whom(first)}.
          </>
        ) : (
          <>
            Most time goes from {first.service} to {whom(first)}; no call fails.
          </>
        )}
      </Answer>
      <p className="text-faint mt-1">
        {counted(items.length, "pair", "pairs")} over the whole hours of {windowInWords(search)}. Broader lines carry
        more calls; failing ones are brick.
      </p>
      <Suspense fallback={<Skeleton rows={6} />}>
        <CallMap items={items} worst={failing(worst) > 0 ? worst.service : first.service} />
      </Suspense>
      <Table
        label="Calls"
        columns={[
          {
            name: "service calls",
            value: (item) => `${item.service} ${whom(item)}`,
            cell: (item) => <Pair item={item} />,
          },
          { name: "by", value: kind, cell: kind },
          ...counts(then),
        ]}
        rows={items}
        keyOf={keyOf}
        {...sorting}
      />
    </>
  );
}

/** Who calls whom, and under which name. */
function Pair({ item }: { item: CallItem }) {
  const { search } = useScope();
  return (
    <>
      <Link to="/traffic" search={{ ...search, view: "endpoints", service: item.service }} className="underline">
        {item.service}
      </Link>{" "}
      → <span className={item.to_service ? "" : "font-mono"}>{whom(item)}</span>
      {item.to_service && <span className="text-faint"> as {item.name}</span>}
    </>
  );
}

/** Database statements by the time they take. */
export function Statements() {
  const { search, query, then } = useScope();
  const sorting = useOrder();
  const statements = useQuery(
    reading("/api/v1/statements", {
      params: { query: { ...query, ...(search.against && { against: search.against }), limit: 200 } },
    }),
  );
  if (statements.isPending) return <Skeleton isPage rows={10} />;
  if (statements.isLoadingError)
    return <Failed isPage what="The statements" error={statements.error} retry={() => void statements.refetch()} />;
  const { items } = statements.data;
  const [first] = items;
  if (!first) {
    return (
      <>
        <h1 className="sr-only">Statements</h1>
        <Empty title={`No database statement was run in ${windowInWords(search)}.`}>
          <p>
            Statements are taken from the attributes db.query.text and db.query.summary of spans; their values are left
            out.
          </p>
        </Empty>
      </>
    );
  }
  const all = items.reduce((sum, item) => sum + item.total_ms, 0);
  return (
    <>
      <Answer>
        {percent(first.total_ms / all)} of all time in databases is one statement of {first.service}, run{" "}
        {counted(first.count, "time", "times")}.
      </Answer>
      <p className="text-faint mt-1">
        Over the whole hours of {windowInWords(search)}; values left out, what took most time first.
      </p>
      <Table
        label="Statements"
        columns={[
          { name: "service", value: (item) => item.service, cell: (item) => item.service },
          { name: "statement", isCode: true, value: (item) => item.name, cell: (item) => item.name },
          ...counts(then),
        ]}
        rows={items}
        keyOf={keyOf}
        {...sorting}
      />
    </>
  );
}

/** What is said of each call or statement: how often, how long, in all. */
function counts(then: string): Column<CallItem>[] {
  return [
    { name: "times", isNumber: true, value: (item) => item.count, cell: (item) => count(item.count) },
    {
      name: "failed",
      isNumber: true,
      value: (item) => item.failed,
      cell: (item) => <FailedOf failed={item.failed} of={item.count} />,
    },
    { name: "mean", isNumber: true, value: (item) => item.mean_ms, cell: (item) => duration(item.mean_ms) },
    {
      name: then,
      isNumber: true,
      value: (item) => item.mean_before_ms,
      cell: (item) => (
        <span className="text-faint">{item.mean_before_ms == null ? "—" : duration(item.mean_before_ms)}</span>
      ),
    },
    { name: "longest", isNumber: true, value: (item) => item.longest_ms, cell: (item) => duration(item.longest_ms) },
    { name: "in all", isNumber: true, value: (item) => item.total_ms, cell: (item) => duration(item.total_ms) },
  ];
}

const keyOf = (item: CallItem) => `${item.service} ${item.kind} ${item.name}`;
