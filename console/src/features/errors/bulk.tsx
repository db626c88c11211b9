import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type HandlingAction, type HandlingState, api, changed, taken } from "../../api/client";
import { counted } from "../../ui/format";
import { SettleForm } from "../../parts/settle-form";
import { Button, Callout, Refused } from "../../ui/kit";

type Props = {
  /** References of the errors that are chosen. */
  chosen: readonly string[];
  /** Has none be chosen any more. */
  clear: () => void;
};

type Done = { what: string; states: HandlingState[] };

const DAY = 24 * 3_600_000;

/** What can be done about all errors that are chosen, and what was done last, with a way back. */
export function Bulk({ chosen, clear }: Props) {
  const [done, setDone] = useState<Done>();
  const act = useMutation({
    mutationFn: async ({ action, what }: { action: HandlingAction; what: string }): Promise<Done> => {
      const body = { errors: [...chosen], action };
      return { what, states: (await taken(api.POST("/api/v1/handling", { body }))).items };
    },
    onSuccess: (now) => {
      setDone(now);
      clear();
    },
    onSettled: () => changed("/api/v1/errors", "/api/v1/now"),
  });
  const undo = useMutation({
    mutationFn: async ({ states }: Done) => {
      for (const { ref, last_change: change } of states) {
        if (change == null) continue;
        await taken(api.POST("/api/v1/errors/{ref}/handling/undo", { params: { path: { ref } }, body: { change } }));
      }
    },
    onSuccess: () => setDone(undefined),
    onSettled: () => changed("/api/v1/errors", "/api/v1/now"),
  });
  const all = counted(chosen.length, "error", "errors");
  return (
    <section aria-label="What is done about several errors" className="sticky bottom-0 z-10">
      {chosen.length > 0 && (
        <div className="border-line bg-sheet flex flex-wrap items-center gap-2 rounded-sm border px-3 py-2 text-[13px]">
          <b>{all} chosen</b>
          <Button
            disabled={act.isPending}
            onClick={() => act.mutate({ action: { verb: "take" }, what: `${all} taken` })}
          >
            Take
          </Button>
          <Button
            disabled={act.isPending}
            onClick={() =>
              act.mutate({
                action: { verb: "quiet", until: new Date(Date.now() + DAY).toISOString() },
                what: `${all} made quiet for a day`,
              })
            }
          >
            Quiet for a day
          </Button>
          <SettleForm
            placeholder="2.4.1"
            isPending={act.isPending}
            settle={(action, done) => act.mutate({ action, what: `${all} settled` }, { onSuccess: done })}
          />
          <Button
            disabled={act.isPending}
            onClick={() => act.mutate({ action: { verb: "reopen" }, what: `${all} reopened` })}
          >
            Reopen
          </Button>
          <Button look="link" className="ml-auto" onClick={clear}>
            choose none
          </Button>
        </div>
      )}
      {act.isError && <Refused what="Nothing was done" error={act.error} />}
      {undo.isError && <Refused what="Not all of it was undone" error={undo.error} />}
      {done && (
        <Callout tone="good">
          {done.what}.{" "}
          <Button look="link" disabled={undo.isPending} onClick={() => undo.mutate(done)}>
            Undo
          </Button>{" "}
          <Button look="link" onClick={() => setDone(undefined)}>
            Close
          </Button>
        </Callout>
      )}
    </section>
  );
}
