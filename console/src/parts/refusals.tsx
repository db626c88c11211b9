import { useEvery } from "../api/live";
import { useQuery } from "@tanstack/react-query";
import { useMayAct, reading } from "../api/client";
import { agoInWords, count, counted } from "../ui/format";
import { Failed } from "../ui/states";
import { Heading } from "../ui/kit";

/** Requests of senders refused in the last minutes, and why. */
export function Refusals({ minutes }: { minutes: number }) {
  const mayRead = useMayAct();
  const every = useEvery(5_000);
  const refused = useQuery({
    ...reading("/api/v1/refused", { params: { query: { minutes } } }),
    enabled: mayRead,
    // A refused request commits nothing, so no live message tells of it.
    refetchInterval: every,
  });
  const items = refused.data?.items ?? [];
  // Where refused requests came from is not for everybody.
  if (!mayRead) return null;
  return (
    <section aria-label="Refused">
      <Heading>
        Refused <span className="text-faint font-normal">in the last {counted(minutes, "minute", "minutes")}</span>
      </Heading>
      {refused.isLoadingError && (
        <Failed what="What was refused" error={refused.error} retry={() => void refused.refetch()} />
      )}
      {refused.isSuccess && items.length === 0 && <p className="text-faint py-2">Nothing was refused.</p>}
      <ul>
        {items.map((item) => (
          <li
            key={`${item.last_at} ${item.path} ${item.reason} ${item.sender} ${item.key}`}
            className="border-line border-b py-1.5"
          >
            <p className="text-brick">{item.reason}</p>
            <p className="text-faint text-[13px] break-words">
              {item.count > 1 && `${count(item.count)} requests, the latest `}
              {agoInWords(item.last_at)} to <code>{item.path || "many paths"}</code>
              {item.key && ` with the key ${item.key}`}
              {item.sender && `, from ${item.sender}`}
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}
