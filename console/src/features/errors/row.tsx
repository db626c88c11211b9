import { Link } from "@tanstack/react-router";
import { type ErrorItem, type Sentence } from "../../api/client";
import { handled } from "../../parts/handling-in-words";
import { ago, count, counted, percent } from "../../ui/format";
import { Strip } from "../../ui/strata";
import { Ago } from "../../ui/time";

/** A sentence of the service, with its age, growing, in its place. */
export function Said({ sentence: { lead, text, since, rest } }: { sentence: Sentence }) {
  return (
    <>
      {lead && <span className="text-brick">{lead}</span>}
      {text}
      {since && (
        <>
          {" "}
          <Ago at={since} className="whitespace-nowrap" />
        </>
      )}
      {rest}
    </>
  );
}

type RowProps = {
  error: ErrorItem;
  isFirst: boolean;
  scope: Record<string, string | undefined>;
  link: (link: HTMLAnchorElement | null) => void;
  isChosen: boolean;
  /** For whoever may act on errors. */
  choose: (() => void) | undefined;
};

/** Reasons told in the first row: the weightiest; the page of the error has all. */
const SHOWN_REASONS = 5;

/** One error: its sentence, what it is, and its numbers. */
export function Row({ error, isFirst, scope, link, isChosen, choose }: RowProps) {
  const { score, reasons } = error.attention;
  const tone = score >= 60 ? "bg-brick" : score >= 40 ? "bg-ochre" : "bg-layer-4";
  const known = handled(error).join(", ");
  const open = { to: "/errors/$ref", params: { ref: error.ref }, search: scope } as const;
  const all = { ...open, to: "/errors/$ref/occurrences" } as const;
  return (
    <div className="border-line grid grid-cols-[5rem_1fr] items-center gap-x-3 border-b py-1.5 md:grid-cols-[5rem_1fr_190px_4.5rem_5.5rem_4rem_4.5rem]">
      <span className="flex items-center gap-1.5 font-mono text-[13px]" title={reasons.join(", ")}>
        {choose && (
          <input
            type="checkbox"
            aria-label={`Choose ${error.ref}`}
            checked={isChosen}
            onChange={choose}
            className="size-4"
          />
        )}
        <span aria-hidden="true" className={`h-4 w-1 ${tone}`} />
        <span className="sr-only">attention </span>
        {score}
        <span className="sr-only"> for {reasons.join(", ")}</span>
      </span>
      <div className="min-w-0">
        <Link ref={link} {...open} className="text-ink block font-semibold md:line-clamp-2">
          {error.flags.length > 0 && <span className="text-brick">{error.flags.join(", ")}: </span>}
          <Said sentence={error.sentence} />
        </Link>
        <p className="text-faint text-[13px] md:truncate">
          {known && <span className="text-ochre">{known} · </span>}
          {error.service} · {error.title}
          {error.own_frame && <span className="font-mono text-[12px]"> · {error.own_frame}</span>}
          <span className="font-mono text-[12px]"> · {error.ref}</span>
        </p>
        {isFirst && (
          <p className="text-faint text-[13px]">Ranked first: {reasons.slice(0, SHOWN_REASONS).join(" · ")}</p>
        )}
      </div>
      <div className="hidden md:block">
        {error.strip && (
          <Strip
            timeline={error.strip}
            isYoung={error.sentence.since !== undefined}
            label={`${count(error.count)} occurrences over time`}
          />
        )}
      </div>
      <span className="col-start-2 text-[13px] md:col-auto md:text-right md:font-mono">
        {error.request_share === null || error.request_share === undefined ? "—" : percent(error.request_share)}
        <span className="md:hidden"> of requests · </span>
        <Link {...all} className="underline md:hidden">
          {counted(error.count, "occurrence", "occurrences")}
        </Link>
        <span className="md:hidden"> · {ago(error.last_seen)}</span>
      </span>
      <Link
        {...all}
        tabIndex={-1}
        className="hidden text-right font-mono text-[13px] md:block"
        aria-label={`${error.count} occurrences`}
      >
        {count(error.count)}
        {error.against && <Then then={error.against} />}
      </Link>
      <span className="hidden text-right font-mono text-[13px] md:block">{count(error.users)}</span>
      <Ago at={error.last_seen} isShort className="hidden text-right text-[13px] md:block" />
    </div>
  );
}

/** How many there were in the period held against, and whether it is more or less now. */
function Then({ then }: { then: NonNullable<ErrorItem["against"]> }) {
  return (
    <span
      className={`block text-[12px] ${then.change === "more" ? "text-brick" : then.change === "less" ? "text-moss" : "text-faint"}`}
    >
      {then.change === "more" && "▲ "}
      {then.change === "less" && "▼ "}
      {count(then.count)} then
    </span>
  );
}
