import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { reading } from "../../api/client";
import { count, counted, percent } from "../../ui/format";
import { Failed, Skeleton } from "../../ui/states";
import { Strata } from "../../ui/strata";
import { useScope } from "./scope";

/** One endpoint over time: failures above, requests below, in layers by version; and its versions side by side. */
export function Course({ service, endpoint }: { service: string; endpoint: string }) {
  const { search, query } = useScope();
  const navigate = useNavigate({ from: "/traffic" });
  const course = useQuery(reading("/api/v1/endpoints/course", { params: { query: { ...query, service, endpoint } } }));
  if (course.isPending) return <Skeleton rows={4} />;
  if (course.isLoadingError)
    return <Failed what="The endpoint's course" error={course.error} retry={() => void course.refetch()} />;
  const { from, step_ms, steps, count: length } = course.data;
  const versions = [...new Set(steps.map((step) => step.version))];
  const layers = versions.map((version) => {
    const [requests, occurrences] = [new Array<number>(length).fill(0), new Array<number>(length).fill(0)];
    for (const step of steps.filter((step) => step.version === version)) {
      const at = Math.round((Date.parse(step.at) - Date.parse(from)) / step_ms);
      requests[at] = (requests[at] ?? 0) + step.requests;
      occurrences[at] = (occurrences[at] ?? 0) + step.failed;
    }
    // What ran when the window began did not begin with it.
    const first = steps.find((step) => step.version === version)?.at ?? from;
    const first_seen = Date.parse(first) === Date.parse(from) ? new Date(0).toISOString() : first;
    return { version, requests, occurrences, first_seen };
  });
  const sum = (values: number[]) => values.reduce((all, n) => all + n, 0);
  return (
    <div className="my-3">
      <Strata
        timeline={{ from, to: new Date(Date.parse(from) + step_ms * length).toISOString(), step_ms, layers }}
        service={service}
        onWindow={(from, to) =>
          void navigate({
            search: (now) => ({ ...now, from: from.toISOString(), to: to.toISOString(), since: undefined }),
          })
        }
      />
      <p className="mt-1 flex flex-wrap gap-x-6 text-[13px] tabular-nums">
        {layers.map(({ version, requests, occurrences }) => (
          <span key={version}>
            <b className="font-mono">{version}</b>: {counted(sum(requests), "request", "requests")},{" "}
            {sum(occurrences) === 0
              ? "none failed"
              : `${count(sum(occurrences))} failed (${percent(sum(occurrences) / Math.max(1, sum(requests)))})`}
          </span>
        ))}
        <Link to="/traffic" search={{ ...search, endpoint: undefined }}>
          all endpoints
        </Link>
      </p>
    </div>
  );
}
