import { useMutation, useQuery } from "@tanstack/react-query";
import { api, queryClient, taken } from "../../api/client";
import { agoInWords, exact } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { BUTTON, Refused } from "../senders/parts";

const KEY = ["sessions"];

/** Where one is signed in, each to be ended. */
export function Sessions() {
  const sessions = useQuery({ queryKey: KEY, queryFn: () => taken(api.GET("/api/v1/sessions")) });
  const end = useMutation({
    mutationFn: (id: number) => taken(api.DELETE("/api/v1/sessions/{id}", { params: { path: { id } } })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: KEY }),
  });
  return (
    <section aria-label="Sessions" className="mt-10">
      <h2 className="border-line border-b pb-1 font-semibold">Sessions</h2>
      {sessions.isPending && <Skeleton rows={2} />}
      {sessions.isLoadingError && (
        <Failed what="Your sessions" error={sessions.error} retry={() => void sessions.refetch()} />
      )}
      <ul>
        {sessions.data?.items.map((session) => (
          <li key={session.id} className="border-line flex flex-wrap items-baseline gap-x-4 border-b py-1.5">
            <span className="min-w-0 flex-1 truncate" title={session.agent}>
              {session.agent || "a browser that does not say its name"}
            </span>
            <span className="text-faint" title={exact(session.last_used_at)}>
              last used {agoInWords(session.last_used_at)}
            </span>
            {session.own ? (
              <span className="text-faint">this session</span>
            ) : (
              <button type="button" className={BUTTON} disabled={end.isPending} onClick={() => end.mutate(session.id)}>
                End session
              </button>
            )}
          </li>
        ))}
      </ul>
      {end.isError && <Refused error={end.error} />}
    </section>
  );
}
