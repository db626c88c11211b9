import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type HandlingAction, type HandlingState, api, changed, taken } from "../../api/client";
import { counted } from "../../ui/format";
import { Button, Callout, Input, Refused } from "../../ui/kit";

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
  const [version, setVersion] = useState("");
  const [done, setDone] = useState<Done>();
  const act = useMutation({
    mutationFn: async ({ action, what }: { action: HandlingAction; what: string }): Promise<Done> => {
      const body = { errors: [...chosen], action };
      return { what, states: (await taken(api.POST("/api/v1/handling", { body }))).items };
    },
    onSuccess: (now) => {
      setDone(now);
      setVersion("");
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
          <form
            className="flex gap-1.5"
            onSubmit={(event) => {
              event.preventDefault();
              act.mutate({
                action: { verb: "settle", version: version.trim() },
                what: `${all} settled in ${version.trim()}`,
              });
            }}
          >
            <Input
              aria-label="Version from which on they must not occur"
              placeholder="2.4.1"
              value={version}
              onChange={setVersion}
              className="w-24 font-mono"
            />
            <Button type="submit" disabled={act.isPending || version.trim() === ""}>
              Settle in
            </Button>
          </form>
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
