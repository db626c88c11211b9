import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type SubmitEvent, useState } from "react";
import type { components } from "../api/generated/schema";
import { api, changed, reading, taken, useMayAct } from "../api/client";
import { useEvery } from "../api/live";
import { Button, Refused, Select } from "../ui/kit";
import { Failed } from "../ui/states";
import { clock } from "../ui/format";
import { COUNTS, LENGTHS, closeUpInWords } from "./close-up-words";

type CloseUpItem = components["schemas"]["CloseUpItem"];

/** What a close-up has come to, what it took, and its end. */
export function CloseUp({ of }: { of: CloseUpItem }) {
  const mayAct = useMayAct();
  const params = { path: { id: of.id } };
  const end = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/close-ups/{id}", { params })),
    onSettled: () => changed("/api/v1/close-ups", "/api/v1/close-ups/{id}"),
  });
  return (
    <>
      <p>
        {closeUpInWords(of)}
        {of.state === "open" && mayAct && (
          <Button look="link" className="ml-2" disabled={end.isPending} onClick={() => end.mutate()}>
            end it
          </Button>
        )}
      </p>
      {end.isError && <Refused what="Not ended" error={end.error} />}
      {of.taken > 0 && <Taken id={of.id} isOpen={of.state === "open"} />}
    </>
  );
}

/** The occurrences that a close-up took: each opens on its error. */
function Taken({ id, isOpen }: { id: number; isOpen: boolean }) {
  const every = useEvery(5_000);
  const found = useQuery({
    ...reading("/api/v1/close-ups/{id}", { params: { path: { id } } }),
    refetchInterval: isOpen && every,
  });
  if (found.isLoadingError)
    return <Failed what="What it took" error={found.error} retry={() => void found.refetch()} />;
  return (
    <ol className="flex flex-wrap gap-x-3" aria-label="Occurrences kept in full">
      {found.data?.occurrences.map((one) => (
        <li key={one.id}>
          <Link
            to="/errors/$ref"
            params={{ ref: one.error }}
            search={(now) => ({ ...now, occurrence: one.id })}
            hash="occurrence"
          >
            {clock(one.at)}
          </Link>
        </li>
      ))}
    </ol>
  );
}

type Of = { error: string } | { where: string };

/** Begins a close-up of an error, or of what a predicate holds for. */
export function BeginCloseUp({ of, begun }: { of: Of; begun?: () => void }) {
  const [count, setCount] = useState("3");
  const [hours, setHours] = useState<(typeof LENGTHS)[number][0]>("24");
  const [tell, setTell] = useState(false);
  const begin = useMutation({
    mutationFn: () => {
      const until = new Date(Date.now() + Number(hours) * 3_600_000).toISOString();
      return taken(api.POST("/api/v1/close-ups", { body: { ...of, count: Number(count), until, tell } }));
    },
    onSuccess: async () => {
      await changed("/api/v1/close-ups");
      begun?.();
    },
  });
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    begin.mutate();
  };
  const isNothing = "where" in of && of.where.trim() === "";
  return (
    <form onSubmit={submit} className="flex flex-wrap items-center gap-x-1.5 gap-y-1">
      <span>Keep the next</span>
      <Select label="How many" value={count} options={COUNTS} onChange={setCount} />
      <span>for</span>
      <Select label="For how long at most" value={hours} options={LENGTHS} onChange={setHours} />
      <label className="flex items-center gap-1">
        <input type="checkbox" checked={tell} onChange={(event) => setTell(event.target.checked)} />
        tell me
      </label>
      <Button type="submit" disabled={begin.isPending || isNothing}>
        {begin.isPending ? "Beginning…" : "Begin"}
      </Button>
      {begin.isError && <Refused what="Not begun" error={begin.error} />}
    </form>
  );
}
