import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { type GroupingChange, type GroupingOutcome, api, queryClient, taken, useMayAct, reading } from "../api/client";
import { agoInWords, count, counted, exact } from "../ui/format";
import { Failed } from "../ui/states";
import { Callout, Refused, Button } from "../ui/kit";

/** Parts of a split error shown at once. */
const PARTS = 10;

/** A change to grouping: tried first, then made. `change` is undefined while the form is not filled in. */
export function ChangeSteps({
  change,
  isRule,
  onMade,
}: {
  change: GroupingChange | undefined;
  isRule: boolean;
  onMade?: () => void;
}) {
  const mayChange = useMayAct();
  const [days, setDays] = useState(7);
  const asked = JSON.stringify([change, days]);
  const send = (dry: boolean) =>
    taken(
      api.POST("/api/v1/grouping/changes", {
        params: { query: { dry_run: dry, days } },
        body: change as GroupingChange,
      }),
    );
  const trial = useMutation({ mutationFn: async () => ({ asked, outcome: await send(true) }) });
  const made = useMutation({
    mutationFn: () => send(false),
    onSuccess: () => {
      onMade?.();
      return queryClient.invalidateQueries();
    },
  });
  const isTried = trial.data?.asked === asked;
  return (
    <div className="mt-2">
      <div className="flex flex-wrap items-center gap-3">
        <button
          type="button"
          disabled={!change || trial.isPending}
          onClick={() => trial.mutate()}
          className="border-line bg-paper hover:bg-wash rounded-sm border px-3 py-1 disabled:opacity-60"
        >
          {trial.isPending ? "Trying…" : "Try it"}
        </button>
        <label>
          over the last{" "}
          <select
            value={days}
            onChange={(event) => setDays(Number(event.target.value))}
            className="border-line bg-sheet rounded-sm border px-1.5 py-1"
          >
            {[1, 3, 7, 14, 30].map((n) => (
              <option key={n} value={n}>
                {counted(n, "day", "days")}
              </option>
            ))}
          </select>
        </label>
        {isTried && mayChange && (
          <button
            type="button"
            disabled={made.isPending}
            onClick={() => made.mutate()}
            className="bg-accent text-on-accent rounded-sm px-3 py-1 font-semibold disabled:opacity-60"
          >
            {isRule ? "Make it a rule" : "Do it"}
          </button>
        )}
        {isTried && !mayChange && <span className="text-faint">An engineer can do it.</span>}
      </div>
      {trial.isError && !isTried && <Refused what="Nothing was tried" error={trial.error} />}
      {isTried && !made.isSuccess && trial.data && <Outcome outcome={trial.data.outcome} />}
      {made.isError && <Refused what="Nothing was changed" error={made.error} />}
      {made.isSuccess && (
        <Callout tone="good">
          Change {made.data.id}: {made.data.sentence}. The history below undoes it.
        </Callout>
      )}
    </div>
  );
}

/** What a change would do. */
function Outcome({ outcome }: { outcome: GroupingOutcome }) {
  return (
    <Callout tone="open">
      <p>
        <b>This {outcome.sentence}.</b>{" "}
        {outcome.occurrences > 0 && `${counted(outcome.occurrences, "occurrence was", "occurrences were")} looked at.`}{" "}
        Nothing is changed yet.
      </p>
      {outcome.joined.map(({ into, errors }) => (
        <div key={into.ref} className="mt-1">
          <p>
            <Named {...into} /> stays, and takes in:
          </p>
          <ul className="pl-4">
            {errors.map((error) => (
              <li key={error.ref}>
                <Named {...error} />
              </li>
            ))}
          </ul>
        </div>
      ))}
      {outcome.split.map(({ error, parts, leaving }) => (
        <div key={error.ref} className="mt-1">
          <p>
            <Named {...error} /> keeps its largest part; of its own become:
          </p>
          <ul className="pl-4">
            {parts.slice(0, PARTS).map((part) => (
              <li key={part.title}>
                <span className="font-mono">{count(part.count)}</span>{" "}
                <bdi className="[overflow-wrap:anywhere]">{part.title}</bdi>
              </li>
            ))}
            {parts.length > PARTS && <li className="text-faint">and {parts.length - PARTS} more parts</li>}
            {leaving > 0 && (
              <li>{counted(leaving, "occurrence goes", "occurrences go")} over to another known error</li>
            )}
          </ul>
        </div>
      ))}
    </Callout>
  );
}

function Named({ ref, title }: { ref: string; title: string }) {
  const search = useSearch({ from: "/inside" });
  return (
    <>
      <Link
        to="/errors/$ref"
        params={{ ref }}
        search={{ environment: search.environment, since: search.since }}
        className="font-mono"
      >
        {ref}
      </Link>{" "}
      <bdi className="[overflow-wrap:anywhere]">{title}</bdi>
    </>
  );
}

/** What was changed, of one error or of all, with a way back. */
export function History({ error }: { error?: string }) {
  const mayChange = useMayAct();
  const changes = useQuery(reading("/api/v1/grouping/changes", { params: { query: error ? { error } : {} } }));
  const undo = useMutation({
    mutationFn: (id: number) => taken(api.POST("/api/v1/grouping/changes/{id}/undo", { params: { path: { id } } })),
    onSuccess: () => queryClient.invalidateQueries(),
  });
  if (changes.isLoadingError)
    return <Failed what="The history" error={changes.error} retry={() => void changes.refetch()} />;
  if (changes.isPending)
    return <div className="bg-wash h-8 motion-safe:animate-pulse" role="status" aria-label="Loading the history" />;
  if (changes.data.items.length === 0)
    return <p className="text-faint">Nobody has changed how {error ? "it is" : "errors are"} grouped.</p>;
  return (
    <>
      {undo.isError && <Refused what="Nothing was undone" error={undo.error} />}
      <ul>
        {changes.data.items.map((item) => (
          <li key={item.id} className="border-line flex flex-wrap items-baseline gap-x-3 border-b py-1 last:border-b-0">
            <span className="text-faint font-mono">{item.id}</span>
            <span className="min-w-0 flex-1 [overflow-wrap:anywhere]">
              {!error && <b>{item.service}: </b>}
              {item.change} — <span className="text-faint">{item.sentence}</span>
            </span>
            <span className="text-faint" title={exact(item.at)}>
              {item.by}, {agoInWords(item.at)}
            </span>
            {item.undone_at ? (
              <span className="text-faint">undone by {item.undone_by}</span>
            ) : (
              <>
                {item.is_rule && <span className="text-moss">in force</span>}
                {mayChange && (
                  <Button
                    look="link"
                    disabled={undo.isPending}
                    onClick={() => undo.mutate(item.id)}
                    aria-label={`Undo change ${item.id}`}
                  >
                    undo
                  </Button>
                )}
              </>
            )}
          </li>
        ))}
      </ul>
    </>
  );
}
