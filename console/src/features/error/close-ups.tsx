import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { reading, useMayAct } from "../../api/client";
import { useEvery } from "../../api/live";
import { BeginCloseUp, CloseUp } from "../../parts/close-up";
import { Heading } from "../../ui/kit";
import { Failed } from "../../ui/states";

/** How many that ended are shown beside those under way. */
const ENDED = 1;

/** The error's close-ups: what they have come to, and a new one. */
export function CloseUps({ reference }: { reference: string }) {
  const mayAct = useMayAct();
  const every = useEvery(5_000);
  const list = useQuery({
    ...reading("/api/v1/close-ups", { params: { query: { error: reference } } }),
    refetchInterval: every,
  });
  const items = list.data?.items ?? [];
  const open = items.filter((item) => item.state === "open");
  const shown = [...open, ...items.filter((item) => item.state !== "open").slice(0, ENDED)];
  if (!mayAct && shown.length === 0 && !list.isLoadingError) return null;
  return (
    <section id="close-ups" aria-label="Close-up" className="mb-5 text-[13px]">
      <Heading note={<Link to="/close-ups">all close-ups</Link>}>Close-up: the next in full</Heading>
      <div className="space-y-1.5 pt-1">
        {list.isLoadingError && <Failed what="Its close-ups" error={list.error} retry={() => void list.refetch()} />}
        {shown.map((item) => (
          <CloseUp key={item.id} of={item} />
        ))}
        {mayAct && <BeginCloseUp of={{ error: reference }} />}
      </div>
    </section>
  );
}
