import { useMutation, useQuery } from "@tanstack/react-query";
import { api, taken, reading, changed } from "../../api/client";
import { agoInWords, exact } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { Button, Heading, Refused } from "../../ui/kit";

/** Where one is signed in, each to be ended. */
export function Sessions() {
  const sessions = useQuery(reading("/api/v1/sessions"));
  const end = useMutation({
    mutationFn: (id: number) => taken(api.DELETE("/api/v1/sessions/{id}", { params: { path: { id } } })),
    onSuccess: () => changed("/api/v1/sessions"),
  });
  return (
    <section aria-label="Sessions" className="mt-10">
      <Heading>Sessions</Heading>
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
              <Button disabled={end.isPending} onClick={() => end.mutate(session.id)}>
                End session
              </Button>
            )}
          </li>
        ))}
      </ul>
      {end.isError && <Refused error={end.error} />}
    </section>
  );
}
