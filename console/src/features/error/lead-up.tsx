import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type LeadUpStep, type OccurrenceDetail, reading } from "../../api/client";
import { counted, duration } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";

/** What the request did before it failed, over all services. */
export function LeadUp({ occurrence }: { occurrence: OccurrenceDetail }) {
  const leadUp = useQuery(reading("/api/v1/occurrences/{id}/lead-up", { params: { path: { id: occurrence.id } } }));
  return (
    <section aria-label="Lead-up" className="min-w-0 text-[13px]">
      <h3 className="my-2 font-semibold">What led up to it</h3>
      {leadUp.isPending && <Skeleton rows={4} />}
      {leadUp.isLoadingError && (
        <Failed what="What led up to it" error={leadUp.error} retry={() => void leadUp.refetch()} />
      )}
      {leadUp.data && (
        <>
          {leadUp.data.from === "nothing" && (
            <p className="text-faint">
              {occurrence.trace_id
                ? "No span or log line of this request before the failure is stored."
                : "It came without a trace, and its instance wrote nothing in the ten seconds before."}
            </p>
          )}
          {leadUp.data.is_cut && (
            <p className="text-ochre">This trace is too large to be read whole: some steps may be missing.</p>
          )}
          {leadUp.data.from === "instance" && (
            <p className="text-faint">
              It came without a trace: this is what the same instance wrote in the ten seconds before.
            </p>
          )}
          {leadUp.data.left_out > 0 && (
            <p className="text-faint">{counted(leadUp.data.left_out, "earlier step", "earlier steps")} left out.</p>
          )}
          <ol className="border-line border-l-2">
            {leadUp.data.steps.map((step, at) => (
              <Step key={at} step={step} trace={occurrence.trace_id} />
            ))}
            {leadUp.data.steps.length > 0 && (
              <li className="border-brick text-brick grid grid-cols-[4.5rem_1fr] gap-x-2 border-l-4 py-1 pl-2 font-semibold">
                <span>failed</span>
                <span className="break-words">{occurrence.type || occurrence.message}</span>
              </li>
            )}
          </ol>
          {occurrence.trace_id && (
            <p className="mt-2">
              <Link to="/traffic" search={{ view: "logs", trace: occurrence.trace_id, since: "7d" }}>
                all log lines of this request
              </Link>
            </p>
          )}
        </>
      )}
    </section>
  );
}

function Step({ step, trace }: { step: LeadUpStep; trace: string | null | undefined }) {
  const times = step.times > 1 ? ` × ${step.times}` : "";
  const took = step.took_ms == null ? "" : ` ${duration(step.took_ms)}`;
  const colour = step.failed || step.severity === "error" ? "text-brick" : step.severity === "warn" ? "text-ochre" : "";
  const what = (
    <>
      {step.what}
      {times}
    </>
  );
  return (
    <li className="border-line grid grid-cols-[4.5rem_1fr] gap-x-2 border-b py-1 pl-2">
      <span className="text-faint tabular-nums">
        {step.before_ms < 0.001 ? "then" : `−${duration(step.before_ms)}`}
      </span>
      <span className={`min-w-0 [overflow-wrap:anywhere] ${colour}`}>
        <span className="text-faint">{step.service}</span> {step.failed && step.kind === "done" && "✗ "}
        {trace && step.span_id ? (
          <Link
            to="/traces/$id"
            params={{ id: trace }}
            search={{ span: step.span_id }}
            className={`${colour} ${step.kind === "line" ? "font-mono" : ""}`}
          >
            {what}
          </Link>
        ) : (
          <span className={step.kind === "line" ? "font-mono" : ""}>{what}</span>
        )}
        <span className="text-faint">
          {step.kind === "began" ? " began" : ""}
          {took}
          {step.severity && step.kind === "line" && step.severity !== "info" ? ` ${step.severity}` : ""}
        </span>
      </span>
    </li>
  );
}
