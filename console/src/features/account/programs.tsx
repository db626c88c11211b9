import { useMutation, useQuery } from "@tanstack/react-query";
import { api, changed, reading, taken } from "../../api/client";
import { Confirm } from "../../ui/dialog";
import { agoInWords, exact } from "../../ui/format";
import { Heading, Refused } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";

/** Programs that one let in, each to be shut out again. */
export function Programs() {
  const grants = useQuery(reading("/api/v1/grants"));
  const end = useMutation({
    mutationFn: (id: number) => taken(api.DELETE("/api/v1/grants/{id}", { params: { path: { id } } })),
    onSuccess: () => changed("/api/v1/grants"),
  });
  return (
    <section aria-label="Programs" className="mt-10">
      <Heading>Programs</Heading>
      {grants.isPending && <Skeleton rows={1} />}
      {grants.isLoadingError && (
        <Failed what="Your programs" error={grants.error} retry={() => void grants.refetch()} />
      )}
      {grants.data?.items.length === 0 && (
        <p className="text-faint py-1.5">
          You let no program act as you. An editor asks for it when it <a href="/connect">connects</a>.
        </p>
      )}
      <ul>
        {grants.data?.items.map((grant) => (
          <li key={grant.id} className="border-line flex flex-wrap items-baseline gap-x-4 border-b py-1.5">
            <span className="min-w-0 flex-1 truncate">{grant.client}</span>
            <span className="text-faint" title={`let in ${exact(grant.given_at)}`}>
              {grant.last_used_at ? `last used ${agoInWords(grant.last_used_at)}` : "never used"}
            </span>
            <span className="text-faint">until {exact(grant.expires_at)}, unless it is used</span>
            <Confirm
              label="Shut out …"
              title={`Shut ${grant.client} out?`}
              action="Shut it out"
              isPending={end.isPending}
              onConfirm={() => end.mutate(grant.id)}
            >
              <p>Its next request is refused. It can ask you to be let in again.</p>
            </Confirm>
          </li>
        ))}
      </ul>
      {end.isError && <Refused error={end.error} />}
    </section>
  );
}
