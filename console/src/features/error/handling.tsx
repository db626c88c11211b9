import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { type ErrorDetail, type HandlingAction, api, taken, useMayAct, useMember } from "../../api/client";
import { agoInWords, exact } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { handlingInWords } from "./handling-in-words";

const VERBS: Record<string, (what: string) => string> = {
  take: (who) => `gave it to ${who}`,
  "hand back": () => "handed it back",
  settle: (version) => `settled it in ${version}`,
  quiet: (until) => `made it quiet until ${until}`,
  reopen: () => "reopened it",
  return: (version) => `opened it again: it returned in ${version}`,
  "speak up": (what) => `ended its quiet: ${what}`,
  note: (text) => text,
};

const BUTTON = "rounded-sm border border-line px-2 py-0.5 hover:bg-wash disabled:opacity-50";
const FIELD = "min-w-0 flex-1 rounded-sm border border-line bg-sheet px-2 py-0.5";

/** Who has the error, whether it is settled or quiet, and what was done about it. */
export function Handling({ detail }: { detail: ErrorDetail }) {
  const member = useMember();
  const queries = useQueryClient();
  const path = { ref: detail.ref };
  const state = useQuery({
    queryKey: ["handling", detail.ref],
    queryFn: () => taken(api.GET("/api/v1/errors/{ref}/handling", { params: { path } })),
  });
  const act = useMutation({
    mutationFn: (body: HandlingAction) => taken(api.POST("/api/v1/errors/{ref}/handling", { params: { path }, body })),
    onSuccess: (done) => {
      queries.setQueryData(["handling", detail.ref], done);
      void queries.invalidateQueries({ queryKey: ["errors"] });
      void queries.invalidateQueries({ queryKey: ["error", detail.ref] });
    },
  });
  const [version, setVersion] = useState("");
  const [until, setUntil] = useState("");
  const [note, setNote] = useState("");
  const mayAct = useMayAct();
  const submit = (make: () => HandlingAction, clear: () => void) => (event: FormEvent) => {
    event.preventDefault();
    act.mutate(make(), { onSuccess: clear });
  };
  const inHours = (hours: number): HandlingAction => ({
    verb: "quiet",
    until: new Date(Date.now() + hours * 3_600_000).toISOString(),
  });
  return (
    <section aria-label="Handling" className="mb-5">
      <h2 className="border-line border-b pb-1 font-semibold">Handling</h2>
      {state.isPending && <Skeleton rows={2} />}
      {state.isLoadingError && <Failed what="Its handling" error={state.error} retry={() => void state.refetch()} />}
      {state.data && (
        <>
          <p className="py-1">{handlingInWords(state.data)}</p>
          {state.data.verdict && <p className="pb-1">{state.data.verdict.sentence}</p>}
          {mayAct && (
            <div className="space-y-1.5 text-[13px]">
              <div className="flex flex-wrap gap-1.5">
                {state.data.taken_by === member.data?.email ? (
                  <button type="button" className={BUTTON} onClick={() => act.mutate({ verb: "hand_back" })}>
                    Hand back
                  </button>
                ) : (
                  <button type="button" className={BUTTON} onClick={() => act.mutate({ verb: "take" })}>
                    Take it
                  </button>
                )}
                {state.data.open ? (
                  [1, 24, 168].map((hours) => (
                    <button key={hours} type="button" className={BUTTON} onClick={() => act.mutate(inHours(hours))}>
                      Quiet for {hours === 1 ? "an hour" : hours === 24 ? "a day" : "a week"}
                    </button>
                  ))
                ) : (
                  <button type="button" className={BUTTON} onClick={() => act.mutate({ verb: "reopen" })}>
                    Reopen
                  </button>
                )}
              </div>
              <form
                className="flex gap-1.5"
                onSubmit={submit(
                  () => ({ verb: "settle", version: version.trim() }),
                  () => setVersion(""),
                )}
              >
                <input
                  aria-label="Version from which on it must not occur"
                  placeholder={`a version after ${detail.versions.at(-1) ?? detail.first_version}`}
                  value={version}
                  onChange={(event) => setVersion(event.target.value)}
                  className={FIELD}
                />
                <button type="submit" disabled={version.trim() === ""} className={BUTTON}>
                  Settle in
                </button>
              </form>
              <form
                className="flex gap-1.5"
                onSubmit={submit(
                  () => ({ verb: "quiet", where: until.trim() }),
                  () => setUntil(""),
                )}
              >
                <input
                  aria-label="Predicate until which it is quiet"
                  placeholder="users > 50"
                  value={until}
                  onChange={(event) => setUntil(event.target.value)}
                  className={`${FIELD} font-mono`}
                />
                <button type="submit" disabled={until.trim() === ""} className={BUTTON}>
                  Quiet until
                </button>
              </form>
              <form
                className="flex gap-1.5"
                onSubmit={submit(
                  () => ({ verb: "note", text: note.trim() }),
                  () => setNote(""),
                )}
              >
                <input
                  aria-label="A note"
                  placeholder="worth knowing"
                  value={note}
                  onChange={(event) => setNote(event.target.value)}
                  className={FIELD}
                />
                <button type="submit" disabled={note.trim() === ""} className={BUTTON}>
                  Note
                </button>
              </form>
              {act.isError && (
                <p role="alert" className="text-brick">
                  {act.error.message}
                </p>
              )}
            </div>
          )}
          {state.data.history.length > 0 && (
            <ol className="mt-2 text-[13px]">
              {state.data.history.slice(0, 8).map((change) => (
                <li key={`${change.at} ${change.verb}`} className="border-line border-b py-0.5 break-words">
                  <time dateTime={change.at} title={exact(change.at)} className="text-faint">
                    {agoInWords(change.at)}
                  </time>{" "}
                  <b>{change.by}</b> {change.verb === "note" ? "wrote: " : ""}
                  {(VERBS[change.verb] ?? ((what: string) => `${change.verb} ${what}`))(change.what)}
                </li>
              ))}
            </ol>
          )}
        </>
      )}
    </section>
  );
}
