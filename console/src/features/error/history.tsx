import { useQuery } from "@tanstack/react-query";
import { Suspense, lazy, useState } from "react";
import { reading } from "../../api/client";
import { useEvery } from "../../api/live";
import { Button, Heading } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { Ago } from "../../ui/time";

const Markdown = lazy(() => import("../../ui/markdown"));

/** How often it is read again, in milliseconds: flags and deploys come without news of this service. */
const READ_EVERY = 20_000;

/** Entries shown first, and where all are asked for. */
const ENTRIES = { first: 8, all: 500 };

/** What happened to the error, the newest first: what people did and wrote, what was said of it, and deploys. */
export function History({ reference }: { reference: string }) {
  const [limit, setLimit] = useState(ENTRIES.first);
  const params = { path: { ref: reference }, query: { limit } };
  const every = useEvery(READ_EVERY);
  const history = useQuery({ ...reading("/api/v1/errors/{ref}/history", { params }), refetchInterval: every });
  return (
    <section aria-label="History" className="mb-5">
      <Heading>History</Heading>
      {history.isPending && <Skeleton rows={3} />}
      {history.isLoadingError && (
        <Failed what="Its history" error={history.error} retry={() => void history.refetch()} />
      )}
      <ol className="text-[13px]">
        {history.data?.items.map((entry, place) => (
          <li key={`${entry.at} ${place}`} className="border-line border-b py-1 break-words">
            <Ago at={entry.at} className="text-faint" /> {entry.by && <b>{entry.by}</b>}{" "}
            {entry.kind === "note" ? (
              <Suspense fallback={entry.text}>
                <Markdown text={entry.text} />
              </Suspense>
            ) : (
              entry.text
            )}
          </li>
        ))}
      </ol>
      {history.data?.next && limit < ENTRIES.all && (
        <Button look="link" onClick={() => setLimit(ENTRIES.all)}>
          show what happened before
        </Button>
      )}
    </section>
  );
}
