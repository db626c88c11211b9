import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { reading } from "../../api/client";
import { Button, Heading } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { Ago } from "../../ui/time";

/** Entries shown first, and on demand. */
const ENTRIES = { first: 10, more: 200 };

/** Who changed what in the set-up, the newest first. */
export function Audit() {
  const [limit, setLimit] = useState(ENTRIES.first);
  const audit = useQuery(reading("/api/v1/audit", { params: { query: { limit } } }));
  return (
    <section aria-label="Changes of the set-up">
      <Heading>Changes of the set-up</Heading>
      {audit.isPending && <Skeleton rows={3} />}
      {audit.isLoadingError && <Failed what="They" error={audit.error} retry={() => void audit.refetch()} />}
      <ol className="text-[13px]">
        {audit.data?.items.map((entry) => (
          <li key={`${entry.at} ${entry.did} ${entry.subject}`} className="border-line border-b py-1 break-words">
            <Ago at={entry.at} className="text-faint" /> <b>{entry.by}</b> {entry.did} {entry.subject}
          </li>
        ))}
      </ol>
      {audit.data?.items.length === 0 && <p className="text-faint">None yet.</p>}
      {audit.data?.next && limit === ENTRIES.first && (
        <Button look="link" onClick={() => setLimit(ENTRIES.more)}>
          show earlier ones
        </Button>
      )}
    </section>
  );
}
