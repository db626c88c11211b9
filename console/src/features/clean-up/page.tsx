import { useMutation, useQuery } from "@tanstack/react-query";
import { type SubmitEvent, useState } from "react";
import type { components } from "../../api/generated/schema";
import { api, changed, reading, taken, useIsAdmin } from "../../api/client";
import { count, exact } from "../../ui/format";
import { Answer, Button, Callout, Field, Heading, Input, Refused, Select } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";

type Kind = components["schemas"]["CleaningKind"];

const KINDS: readonly [Kind, string][] = [
  ["service", "all that a service sent"],
  ["environment", "all that came from an environment"],
  ["error", "an error with its occurrences"],
  ["user", "what tells of one user"],
];

const HINTS: Record<Kind, string> = {
  service: "Its name and its settings stay. What it sends from now on is kept again.",
  environment: "Its name stays. What comes from it from now on is kept again.",
  error: "Traces and log lines of its requests stay. Where it occurs again it is new.",
  user: "Their occurrences, requests, log lines and traces go; counts stay. No record keeps whom it was about.",
};

/** Deletes for good: tried with counts, confirmed by typing the name. */
export function CleanUpPage() {
  const isAdmin = useIsAdmin();
  return (
    <>
      <Answer>Delete what is not to be kept.</Answer>
      {isAdmin ? (
        <div className="mt-4 grid gap-8 lg:grid-cols-2">
          <Delete />
          <Deleted />
        </div>
      ) : (
        <p className="text-faint mt-1">Admins do that.</p>
      )}
    </>
  );
}

function Delete() {
  const [kind, setKind] = useState<Kind>("service");
  const [name, setName] = useState("");
  const [confirm, setConfirm] = useState("");
  const tryOut = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/clean-up/try", { body: { kind, name: name.trim() } })),
    onSuccess: () => setConfirm(""),
  });
  const cleanUp = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/clean-up", { body: { kind, name: name.trim(), confirm } })),
    onSuccess: () => {
      tryOut.reset();
      setName("");
      return changed("/api/v1/clean-up", "/api/v1/audit");
    },
  });
  const tried = tryOut.data;
  const send = (event: SubmitEvent) => {
    event.preventDefault();
    cleanUp.reset();
    tryOut.mutate();
  };
  return (
    <section aria-label="Delete">
      <Heading>Delete</Heading>
      <form onSubmit={send} className="mt-2 space-y-2">
        <Select
          label="What to delete"
          value={kind}
          options={KINDS}
          onChange={(next) => {
            setKind(next);
            tryOut.reset();
          }}
          className="block w-full"
        />
        <p className="text-faint text-[13px]">{HINTS[kind]}</p>
        <Field
          required
          isCode
          label={kind === "error" ? "Reference" : "Name"}
          placeholder={kind === "error" ? "kobal-tirun" : kind === "user" ? "u-7" : ""}
          value={name}
          onChange={(next) => {
            setName(next);
            tryOut.reset();
          }}
        />
        <Button type="submit" disabled={tryOut.isPending || name.trim() === ""}>
          {tryOut.isPending ? "Counting…" : "Count what there is"}
        </Button>
      </form>
      {tryOut.isError && <Refused what="Not counted" error={tryOut.error} />}
      {tried && (
        <form
          className="mt-3 space-y-2"
          onSubmit={(event) => {
            event.preventDefault();
            cleanUp.mutate();
          }}
        >
          <Callout tone="bad">
            {tried.counts.map((each) => `${count(each.count)} ${each.what}`).join(", ")} go for good. Type{" "}
            <b className="font-mono">{tried.name}</b> to delete them.
          </Callout>
          <div className="flex gap-1.5">
            <Input
              aria-label="The name once more"
              value={confirm}
              onChange={setConfirm}
              className="min-w-0 flex-1 font-mono"
            />
            <Button look="bad" type="submit" disabled={cleanUp.isPending || confirm !== tried.name}>
              Delete for good
            </Button>
          </div>
        </form>
      )}
      {cleanUp.isError && <Refused what="Not deleted" error={cleanUp.error} />}
      {cleanUp.data && <Callout tone="good">{cleanUp.data.name} is being deleted.</Callout>}
    </section>
  );
}

/** How often it is looked how far a deletion is, in milliseconds. */
const EVERY = 3_000;

function Deleted() {
  const list = useQuery({
    ...reading("/api/v1/clean-up"),
    refetchInterval: ({ state }) => (state.data?.items.some((item) => !item.done_at) ? EVERY : false),
  });
  return (
    <section aria-label="Deleted">
      <Heading>Deleted</Heading>
      {list.isPending && <Skeleton rows={3} />}
      {list.isLoadingError && <Failed what="What was deleted" error={list.error} retry={() => void list.refetch()} />}
      {list.data?.items.length === 0 && <p className="text-faint py-2">Nothing yet.</p>}
      <ul className="text-[13px]">
        {list.data?.items.map((item) => (
          <li key={item.id} className="border-line border-b py-1 break-words">
            <b>{item.by}</b> had {item.kind === "user" ? item.name : `${item.kind} ${item.name}`} deleted,{" "}
            {exact(item.at)}:{" "}
            {item.done_at ? `done, ${count(item.removed)} rows` : `going on, ${count(item.removed)} rows so far`}
          </li>
        ))}
      </ul>
    </section>
  );
}
