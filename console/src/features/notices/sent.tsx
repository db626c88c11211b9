import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { api, changed, reading, taken, useMayAct } from "../../api/client";
import type { components } from "../../api/generated/schema";
import { exact } from "../../ui/format";
import { Button, Refused, Select } from "../../ui/kit";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { Ago } from "../../ui/time";

type Notice = components["schemas"]["NoticeItem"];

const STATES: [string, string][] = [
  ["", "all notices"],
  ["failed", "those given up"],
  ["waiting", "those waiting"],
  ["sent", "those sent"],
];

const TONES: Record<string, string> = { sent: "text-moss", failed: "text-brick", waiting: "text-ochre" };

/** What went to whom, when, why, and what became of it. */
export function Sent() {
  const { only, cursor } = useSearch({ from: "/inside" });
  const navigate = useNavigate();
  const notices = useQuery(
    reading("/api/v1/notices", {
      params: { query: { ...(only && { state: only }), ...(cursor && { cursor }) } },
    }),
  );
  const show = (change: Record<string, string | undefined>) =>
    void navigate({ to: ".", search: (now: Record<string, unknown>) => ({ ...now, cursor: undefined, ...change }) });
  return (
    <section aria-label="Sent" className="mt-4">
      <label>
        Show <Select value={only ?? ""} options={STATES} onChange={(state) => show({ only: state || undefined })} />
      </label>
      {notices.isPending && <Skeleton rows={6} />}
      {notices.isLoadingError && (
        <Failed what="The notices" error={notices.error} retry={() => void notices.refetch()} />
      )}
      {notices.data?.items.length === 0 && (
        <Empty title={only ? "There are none." : "Nothing was sent yet."}>
          <p>Notices are sent by the rules; each can be tried on the past week, and tested.</p>
        </Empty>
      )}
      <ul>
        {notices.data?.items.map((notice) => (
          <Row key={notice.id} notice={notice} />
        ))}
      </ul>
      {notices.data?.next && (
        <p className="mt-3">
          <Button onClick={() => show({ cursor: notices.data.next ?? undefined })}>Older notices</Button>
        </p>
      )}
    </section>
  );
}

function Row({ notice }: { notice: Notice }) {
  const mayAct = useMayAct();
  const again = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/notices/{id}/again", { params: { path: { id: notice.id } } })),
    onSuccess: () => changed("/api/v1/notices"),
  });
  const [ref, ...others] = notice.references;
  // No page of its member was open: what it says came by other ways, or waits on the pages.
  const isUnseen = notice.way === "browser" && notice.state === "failed";
  return (
    <li className="border-line border-b py-2">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <span className="min-w-0 break-words">
          {ref !== undefined && others.length === 0 ? (
            <Link to="/errors/$ref" params={{ ref }}>
              {notice.subject}
            </Link>
          ) : (
            notice.subject
          )}
        </span>
        <span className="text-faint ml-auto text-[13px]">
          <Ago at={notice.at} />
        </span>
      </div>
      <p className="text-[13px]">
        <span className={`font-semibold ${isUnseen ? "text-faint" : (TONES[notice.state] ?? "")}`}>
          {isUnseen ? "not shown" : notice.state === "failed" ? "given up" : notice.state}
        </span>{" "}
        by {notice.way}
        {notice.to && ` to ${notice.to}`}
        {notice.answer && <span className="text-faint"> · {notice.answer}</span>}
        {notice.state === "waiting" && notice.attempts > 0 && notice.next_at && (
          <span className="text-faint">
            {" "}
            · tried {notice.attempts} times, again at {exact(notice.next_at)}
          </span>
        )}
        <span className="text-faint">
          {" "}
          · {notice.rule || "no rule"}
          {notice.reason !== "rule" && `, ${notice.reason}`}
        </span>
        {mayAct && notice.state === "failed" && !isUnseen && (
          <>
            {" "}
            <Button look="link" disabled={again.isPending} onClick={() => again.mutate()}>
              Send again
            </Button>
          </>
        )}
      </p>
      {again.isError && <Refused error={again.error} />}
    </li>
  );
}
