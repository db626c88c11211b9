import { useQuery } from "@tanstack/react-query";
import { api, taken, useMayAct } from "../../api/client";
import { agoInWords, count, counted } from "../../ui/format";
import { Failed } from "../../ui/states";

/** Requests of senders refused in the last minutes, and why. */
export function Refusals({ minutes }: { minutes: number }) {
  const mayRead = useMayAct();
  const refused = useQuery({
    enabled: mayRead,
    queryKey: ["refused", minutes],
    queryFn: () => taken(api.GET("/api/v1/refused", { params: { query: { minutes } } })),
    // A refused request commits nothing, so no live message tells of it.
    refetchInterval: 5_000,
  });
  const items = refused.data?.items ?? [];
  // Where refused requests came from is not for everybody.
  if (!mayRead) return null;
  return (
    <section aria-label="Refused">
      <h2 className="border-line border-b pb-1 font-semibold">
        Refused <span className="text-faint font-normal">in the last {counted(minutes, "minute", "minutes")}</span>
      </h2>
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
