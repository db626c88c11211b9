import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  type ErrorDetail,
  type HandlingAction,
  type HandlingState,
  api,
  taken,
  useMayAct,
  useMember,
  reading,
  changed,
  queryClient,
} from "../../api/client";
import { useEvery } from "../../api/live";
import { Failed, Skeleton } from "../../ui/states";
import { Ticket } from "./ticket";
import { useHotkeys } from "../../ui/hotkeys";
import { handlingInWords } from "../../parts/handling-in-words";
import { SettleForm } from "../../parts/settle-form";
import { Button, Heading, Input, Refused, TextArea } from "../../ui/kit";

const quietFor = (hours: number): HandlingAction => ({
  verb: "quiet",
  until: new Date(Date.now() + hours * 3_600_000).toISOString(),
});

/** Who has the error, whether it is settled or quiet, and what was done about it. */
export function Handling({ detail }: { detail: ErrorDetail }) {
  const member = useMember();
  const path = { ref: detail.ref };
  const handling = reading("/api/v1/errors/{ref}/handling", { params: { path } });
  // What happens by itself, a return or the end of a quiet, comes without news of this service.
  const every = useEvery(20_000);
  const state = useQuery({ ...handling, refetchInterval: every });
  const kept = (done: HandlingState) => {
    queryClient.setQueryData(handling.queryKey, done);
    void changed("/api/v1/errors", "/api/v1/errors/{ref}", "/api/v1/errors/{ref}/history");
  };
  // What somebody else did meanwhile is not overwritten: the service refuses, and it is read again.
  const after = state.data?.last_change ?? 0;
  const act = useMutation({
    mutationFn: (body: HandlingAction) =>
      taken(api.POST("/api/v1/errors/{ref}/handling", { params: { path, query: { after } }, body })),
    onSuccess: kept,
    onError: () => changed("/api/v1/errors/{ref}/handling"),
  });
  const undo = useMutation({
    mutationFn: (change: number) =>
      taken(api.POST("/api/v1/errors/{ref}/handling/undo", { params: { path }, body: { change } })),
    onSuccess: kept,
    onError: () => changed("/api/v1/errors/{ref}/handling"),
  });
  const isPending = act.isPending || undo.isPending;
  const last = state.data?.last_change;
  const mayAct = useMayAct();
  const isMine = state.data !== undefined && state.data.taken_by === member.data?.email;
  useHotkeys({
    m: () => {
      if (mayAct && state.data && !isPending) act.mutate({ verb: isMine ? "hand_back" : "take" });
    },
  });
  return (
    <section aria-label="Handling" className="mb-5">
      <Heading>Handling</Heading>
      {state.isPending && <Skeleton rows={2} />}
      {state.isLoadingError && <Failed what="Its handling" error={state.error} retry={() => void state.refetch()} />}
      {state.data && (
        <>
          <p className="py-1">{handlingInWords(state.data)}</p>
          {state.data.verdict && <p className="pb-1">{state.data.verdict.sentence}</p>}
          {mayAct && (
            <div className="space-y-1.5 text-[13px]">
              <div className="flex flex-wrap gap-1.5">
                {isMine ? (
                  <Button disabled={isPending} onClick={() => act.mutate({ verb: "hand_back" })}>
                    Hand back
                  </Button>
                ) : (
                  <Button disabled={isPending} onClick={() => act.mutate({ verb: "take" })}>
                    Take it
                  </Button>
                )}
                {state.data.open ? (
                  [1, 24, 168].map((hours) => (
                    <Button disabled={isPending} key={hours} onClick={() => act.mutate(quietFor(hours))}>
                      Quiet for {hours === 1 ? "an hour" : hours === 24 ? "a day" : "a week"}
                    </Button>
                  ))
                ) : (
                  <Button disabled={isPending} onClick={() => act.mutate({ verb: "reopen" })}>
                    Reopen
                  </Button>
                )}
              </div>
              {state.data.proposals?.map((proposal) => (
                <p key={proposal.to}>
                  <Button disabled={isPending} onClick={() => act.mutate({ verb: "take", by: proposal.to })}>
                    Hand to {proposal.to}
                  </Button>{" "}
                  <span className="text-faint">{proposal.because}</span>
                </p>
              ))}
              <SettleForm
                placeholder={`after ${detail.versions.at(-1) ?? detail.first_version}`}
                isPending={isPending}
                settle={(action, done) => act.mutate(action, { onSuccess: done })}
              />
              <Said
                label="Predicate until which it is quiet"
                placeholder="users > 50"
                verb="Quiet until"
                isPending={isPending}
                submit={(where, done) => act.mutate({ verb: "quiet", where }, { onSuccess: done })}
              />
              <Said
                label="A note"
                placeholder="worth knowing; Markdown: **bold**, `code`, lists, links"
                verb="Note"
                hasLines
                isPending={isPending}
                submit={(text, done) => act.mutate({ verb: "note", text }, { onSuccess: done })}
              />
              {last != null && state.data.can_be_undone && (
                <Button look="link" disabled={isPending} onClick={() => undo.mutate(last)}>
                  undo what was done last
                </Button>
              )}
              {act.isError && <Refused what="Not done" error={act.error} />}
              {undo.isError && <Refused what="Not undone" error={undo.error} />}
            </div>
          )}
          <div className="pt-1.5 text-[13px]">
            <Ticket handling={state.data} />
          </div>
        </>
      )}
    </section>
  );
}

type SaidProps = {
  label: string;
  placeholder: string;
  verb: string;
  /** Whether there is room for several lines. */
  hasLines?: boolean;
  isPending: boolean;
  submit: (text: string, done: () => void) => void;
};

/** A text and what is done with it. */
function Said({ label, placeholder, verb, hasLines = false, isPending, submit }: SaidProps) {
  const [text, setText] = useState("");
  const Box = hasLines ? TextArea : Input;
  return (
    <form
      className="flex gap-1.5"
      onSubmit={(event) => {
        event.preventDefault();
        submit(text.trim(), () => setText(""));
      }}
    >
      <Box
        aria-label={label}
        placeholder={placeholder}
        value={text}
        onChange={setText}
        rows={hasLines ? 2 : undefined}
        className="min-w-0 flex-1"
      />
      <Button type="submit" disabled={isPending || text.trim() === ""}>
        {verb}
      </Button>
    </form>
  );
}
