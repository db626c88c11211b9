import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { reading } from "../api/client";
import { Heading } from "../ui/kit";
import { Failed, Skeleton } from "../ui/states";
import { loadOf } from "./load-names";
import { MetricChart } from "./metric-chart";

/** A window: a duration back from now, or two times. */
type Window = { since?: string | undefined; from?: string | undefined; to?: string | undefined };
type Props = { service: string; environment?: string | undefined; window: Window };

/** Figures drawn on a page; the others stand among all metrics. */
const DRAWN = 4;

/** What the host, the runtime and the pools of a service say over a window, by version; nothing where it sends none. */
export function Load({ service, environment, window }: Props) {
  const query = { service, ...(environment && { environment }), ...window } as Record<string, string>;
  const metrics = useQuery({
    ...reading("/api/v1/metrics", { params: { query } }),
    placeholderData: (before) => before,
    staleTime: 60_000,
  });
  if (metrics.isLoadingError)
    return <Failed what="The load" error={metrics.error} retry={() => void metrics.refetch()} />;
  const names = loadOf((metrics.data?.items ?? []).filter(({ counted }) => !counted).map(({ name }) => name));
  if (names.length === 0) return null;
  const search = { view: "metrics", service, environment, ...window };
  return (
    <section aria-label="Load" className="mt-6 mb-5 min-w-0">
      <Heading note="by version, from the metrics that it sends">Load of {service}</Heading>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-x-8 gap-y-4 md:grid-cols-2">
        {names.slice(0, DRAWN).map((name) => (
          <One key={name} name={name} query={query} />
        ))}
      </div>
      <p className="mt-2 text-[13px]">
        <Link to="/traffic" search={search} className="underline">
          All metrics of {service}
        </Link>
      </p>
    </section>
  );
}

function One({ name, query }: { name: string; query: Record<string, string> }) {
  const navigate = useNavigate();
  const course = useQuery({
    ...reading("/api/v1/metrics/{name}", { params: { path: { name }, query: { ...query, by: "version" } } }),
    placeholderData: (before) => before,
  });
  const search = { ...query, view: "metrics", metric: name };
  return (
    <div className="min-w-0">
      <Link to="/traffic" search={search} className="font-mono text-[13px] break-words">
        {name}
      </Link>
      {course.isPending && <Skeleton rows={4} />}
      {course.isLoadingError && <Failed what={name} error={course.error} retry={() => void course.refetch()} />}
      {course.data &&
        (course.data.lines.length === 0 ? (
          <p className="text-faint text-[13px]">Nothing came in this time.</p>
        ) : (
          <MetricChart
            course={course.data}
            onWindow={(from, to) =>
              void navigate({
                to: "/traffic",
                search: { ...search, since: undefined, from: from.toISOString(), to: to.toISOString() },
              })
            }
          />
        ))}
    </div>
  );
}
