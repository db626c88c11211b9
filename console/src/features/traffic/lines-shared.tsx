import { useQuery } from "@tanstack/react-query";
import { reading } from "../../api/client";
import { count } from "../../ui/format";
import { Button, Heading } from "../../ui/kit";
import { Failed } from "../../ui/states";

type Props = {
  /** Which lines, as the API takes it. */
  query: Record<string, string>;
  narrow: (test: string) => void;
};

/** Sentences told at once. */
const SHOWN = 4;

/** What the lines share that other lines of their services do not; nothing where they share nothing. */
export function LinesShared({ query, narrow }: Props) {
  const shared = useQuery({
    ...reading("/api/v1/logs/stands-out", { params: { query } }),
    placeholderData: (before) => before,
    staleTime: 10_000,
  });
  if (shared.isPending) return null;
  if (shared.isLoadingError)
    return <Failed what="What these lines share" error={shared.error} retry={() => void shared.refetch()} />;
  const { lines, usual, stands_out: findings } = shared.data;
  if (findings.length === 0) return null;
  return (
    <section
      aria-label="What these lines share"
      aria-busy={shared.isPlaceholderData}
      className={`mb-3 ${shared.isPlaceholderData ? "opacity-50" : ""}`}
    >
      <Heading note={`${count(lines)} of them against the newest ${count(usual)} of the same services`}>
        What they share
      </Heading>
      <ul className="text-[13px]">
        {findings.slice(0, SHOWN).map(({ name, value, sentence, where }) => (
          <li key={`${name} ${value}`} className="border-line flex justify-between gap-x-4 border-b py-1">
            <span className="min-w-0 [overflow-wrap:anywhere]">{sentence}</span>
            {where && (
              <Button
                look="link"
                className="shrink-0"
                aria-label={`Only where ${name} is ${value}`}
                onClick={() => narrow(where)}
              >
                only these
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
