import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { components } from "../../api/generated/schema";
import { reading, useMayAct } from "../../api/client";
import { useEvery } from "../../api/live";
import { BeginCloseUp, CloseUp } from "../../parts/close-up";
import { PredicateBox } from "../../parts/predicate-box";
import { counted } from "../../ui/format";
import { Answer, Heading } from "../../ui/kit";
import { Failed, Skeleton } from "../../ui/states";
import { Ago } from "../../ui/time";

type CloseUpItem = components["schemas"]["CloseUpItem"];

/** All close-ups, and a new one of whatever a predicate holds for. */
export function CloseUpsPage() {
  const mayAct = useMayAct();
  const [where, setWhere] = useState<string>();
  const every = useEvery(5_000);
  const list = useQuery({ ...reading("/api/v1/close-ups"), refetchInterval: every });
  if (list.isPending) return <Skeleton isPage rows={6} />;
  if (list.isLoadingError)
    return <Failed isPage what="The close-ups" error={list.error} retry={() => void list.refetch()} />;
  const { items } = list.data;
  const open = items.filter((item) => item.state === "open");
  const ended = items.filter((item) => item.state !== "open");
  return (
    <>
      <Answer note="A close-up keeps the next occurrences in full, with nothing sampled. The service that fails runs on as it is.">
        {open.length === 0
          ? "No close-up is under way."
          : `${counted(open.length, "close-up is", "close-ups are")} under way.`}
      </Answer>
      {mayAct && (
        <section aria-label="A new close-up" className="mt-4 max-w-3xl">
          <Heading note="of one error, from its page">Of whatever a predicate holds for</Heading>
          <PredicateBox
            label="Predicate of the close-up"
            placeholder="service = fares and user = 4711"
            value={where}
            onApply={setWhere}
          />
          <div className="mt-1.5 text-[13px]">
            {where ? (
              <BeginCloseUp of={{ where }} begun={() => setWhere(undefined)} />
            ) : (
              <p className="text-faint">Write a predicate and press Enter, then say how many.</p>
            )}
          </div>
        </section>
      )}
      <Listed title="Under way" items={open} />
      <Listed title="Ended" items={ended} />
    </>
  );
}

function Listed({ title, items }: { title: string; items: CloseUpItem[] }) {
  if (items.length === 0) return null;
  return (
    <section aria-label={title} className="mt-6">
      <Heading>{title}</Heading>
      <ul>
        {items.map((item) => (
          <li key={item.id} className="border-line border-b py-2 last:border-b-0">
            <p className="flex flex-wrap items-baseline gap-x-3 [overflow-wrap:anywhere]">
              {item.error ? (
                <Link to="/errors/$ref" params={{ ref: item.error }} className="font-semibold">
                  {item.title ?? item.error}
                </Link>
              ) : (
                <code className="font-mono font-semibold">{item.where}</code>
              )}
              <span className="text-faint text-[13px]">
                {item.service && `${item.service}, `}
                {item.asked_by}, <Ago at={item.asked_at} />
              </span>
            </p>
            <div className="text-[13px]">
              <CloseUp of={item} />
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}
