import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { lazy, Suspense } from "react";
import { type CallItem, api, taken } from "../../api/client";
import { count, counted, duration, percent, windowInWords } from "../../ui/format";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { useScope } from "./scope";

const CallMap = lazy(() => import("./call-map"));

const HEAD = "py-1 text-left font-normal text-faint";
const CELL = "py-1.5 pr-3 align-top";

export const whom = (item: CallItem) => item.to_service ?? item.name;

const failing = (item: CallItem) => (item.count === 0 ? 0 : item.failed / item.count);

/** Who calls whom. */
export function Calls() {
  const { search, query } = useScope();
  const calls = useQuery({
    queryKey: ["calls", query, search.against],
    queryFn: () =>
      taken(
        api.GET("/api/v1/calls", {
          params: { query: { ...query, ...(search.against && { against: search.against }), limit: 500 } },
        }),
      ),
  });
  if (calls.isPending) return <Skeleton rows={10} />;
  if (calls.isLoadingError) return <Failed what="The calls" error={calls.error} retry={() => void calls.refetch()} />;
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
      <h1 className="text-xl font-bold">
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
      </h1>
      <p className="text-faint mt-1">
        {counted(items.length, "pair", "pairs")} over the whole hours of {windowInWords(search)}. Broader lines carry
        more calls; failing ones are brick.
      </p>
      <Suspense fallback={<Skeleton rows={6} />}>
        <CallMap items={items} worst={failing(worst) > 0 ? worst.service : first.service} />
      </Suspense>
      <Counts
        items={items}
        head={["service calls", "by"]}
        cells={(item) => [<Fragments key="who" item={item} />, item.kind === "consumed" ? "taken from" : item.kind]}
        label="Calls"
      />
    </>
  );
}

function Fragments({ item }: { item: CallItem }) {
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
  const { search, query } = useScope();
  const statements = useQuery({
    queryKey: ["statements", query, search.against],
    queryFn: () =>
      taken(
        api.GET("/api/v1/statements", {
          params: { query: { ...query, ...(search.against && { against: search.against }), limit: 200 } },
        }),
      ),
  });
  if (statements.isPending) return <Skeleton rows={10} />;
  if (statements.isLoadingError)
    return <Failed what="The statements" error={statements.error} retry={() => void statements.refetch()} />;
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
      <h1 className="text-xl font-bold break-words">
        {percent(first.total_ms / all)} of all time in databases is one statement of {first.service}, run{" "}
        {counted(first.count, "time", "times")}.
      </h1>
      <p className="text-faint mt-1">
        Over the whole hours of {windowInWords(search)}; values left out, what took most time first.
      </p>
      <Counts
        items={items}
        head={["statement"]}
        cells={(item) => [
          <span key="what" className="break-words">
            <span className="text-faint">{item.service}</span> <code>{item.name}</code>
          </span>,
        ]}
        label="Statements"
      />
    </>
  );
}

function Counts({
  items,
  head,
  cells,
  label,
}: {
  items: CallItem[];
  head: string[];
  cells: (item: CallItem) => React.ReactNode[];
  label: string;
}) {
  const { then } = useScope();
  return (
    <div className="overflow-x-auto" role="region" aria-label={label} tabIndex={0}>
      <table className="mt-3 w-full text-[13px] tabular-nums">
        <thead>
          <tr className="border-line border-b">
            {head.map((name) => (
              <th key={name} className={HEAD}>
                {name}
              </th>
            ))}
            {["times", "failed", "mean", then, "longest", "in all"].map((name) => (
              <th key={name} className={`${HEAD} text-right`}>
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {items.map((item) => (
            <tr key={`${item.service} ${item.kind} ${item.name}`} className="border-line border-b">
              {cells(item).map((cell, at) => (
                <td key={at} className={`${CELL} min-w-24`}>
                  {cell}
                </td>
              ))}
              <td className={`${CELL} text-right`}>{count(item.count)}</td>
              <td className={`${CELL} text-right`}>
                {item.failed > 0 ? (
                  <span className="text-brick">{`${count(item.failed)} (${percent(failing(item))})`}</span>
                ) : (
                  "0"
                )}
              </td>
              <td className={`${CELL} text-right`}>{duration(item.mean_ms)}</td>
              <td className={`${CELL} text-faint text-right`}>
                {item.mean_before_ms == null ? "—" : duration(item.mean_before_ms)}
              </td>
              <td className={`${CELL} text-right`}>{duration(item.longest_ms)}</td>
              <td className={`${CELL} text-right`}>{duration(item.total_ms)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
