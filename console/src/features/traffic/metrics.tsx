import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { api, changed, reading, taken, useMember } from "../../api/client";
import type { components } from "../../api/generated/schema";
import { Confirm } from "../../ui/dialog";
import { counted, minute, windowInWords } from "../../ui/format";
import { Answer, Button, Refused, Select } from "../../ui/kit";
import { Empty, Failed, Skeleton } from "../../ui/states";
import { type Column, Table } from "../../ui/table";
import { MetricChart } from "../../parts/metric-chart";
import { ofMetric } from "../../ui/units";
import { useScope } from "./scope";

type MetricItem = components["schemas"]["MetricItem"];
type MetricCourse = components["schemas"]["MetricCourse"];

/** The greatest number of all, and of which line it is. */
function mostInWords({ name, unit, lines }: MetricCourse) {
  const [first] = lines;
  const numbers = first?.values.filter((value) => value != null) ?? [];
  if (!first || numbers.length === 0) return null;
  return ` is ${ofMetric(name, unit)(Math.max(...numbers))} at most${first.key ? `, of ${first.key}` : ""}.`;
}

/** What a kind of numbers means. */
const KINDS: Record<string, string> = {
  level: "How much there is",
  increase: "How much came",
  distribution: "Measurements",
};

/** What every metric can be split by, beside its own attributes. */
const FIELDS = ["service", "version", "instance", "environment"];
const TOGETHER = ["mean", "sum", "most", "least"];
const PERCENTILES = ["p50", "p95", "p99"];

/** The metrics that services send, and one of them over time. */
export function Metrics() {
  const { search, query } = useScope();
  const metrics = useQuery({
    ...reading("/api/v1/metrics", { params: { query } }),
    placeholderData: (before) => before,
  });
  if (metrics.isPending) return <Skeleton isPage rows={10} />;
  if (metrics.isLoadingError)
    return <Failed isPage what="The metrics" error={metrics.error} retry={() => void metrics.refetch()} />;
  const { items } = metrics.data;
  if (search.metric !== undefined)
    return <One name={search.metric} item={items.find(({ name }) => name === search.metric)} />;
  if (items.length === 0)
    return (
      <>
        <h1 className="sr-only">Metrics</h1>
        <Empty title={`No metric came in ${windowInWords(search)}.`}>
          <p>
            A question can be counted for good as a metric: <Link to="/ask">ask it</Link>, then choose{" "}
            <i>Count it for good</i>.
          </p>
          <p>
            Services send them over OTLP, to <code>/v1/metrics</code>: switch the metrics of their OpenTelemetry SDK on.
          </p>
        </Empty>
      </>
    );
  const services = new Set(items.flatMap((item) => item.services)).size;
  const ours = items.filter((item) => item.counted).length;
  return (
    <>
      <Answer note={ours > 0 ? `${counted(ours, "counted question", "counted questions")} among them.` : undefined}>
        {counted(items.length, "metric", "metrics")} of {counted(services, "service", "services")}.
      </Answer>
      <Table label="Metrics" columns={COLUMNS} rows={items} keyOf={(item) => `${item.name} ${item.unit}`} />
    </>
  );
}

const COLUMNS: Column<MetricItem>[] = [
  { name: "name", isCode: true, value: (item) => item.name, cell: (item) => <Chosen name={item.name} /> },
  { name: "unit", isCode: true, value: (item) => item.unit, cell: (item) => item.unit },
  { name: "numbers", value: (item) => item.kind, cell: (item) => (KINDS[item.kind] ?? item.kind).toLowerCase() },
  { name: "series", isNumber: true, value: (item) => item.series, cell: (item) => item.series },
  {
    name: "services",
    value: (item) => item.services.join(", "),
    cell: (item) =>
      item.counted
        ? "counted"
        : item.services.length > 4
          ? `${item.services.slice(0, 3).join(", ")} and ${item.services.length - 3} more`
          : item.services.join(", "),
  },
  {
    name: "attributes",
    isCode: true,
    value: (item) => item.attributes.join(", "),
    cell: (item) => item.attributes.join(", "),
  },
];

function Chosen({ name }: { name: string }) {
  const navigate = useNavigate({ from: "/traffic" });
  return (
    <Button
      look="link"
      className="text-left font-mono break-words"
      onClick={() => void navigate({ search: (now) => ({ ...now, metric: name, by: undefined, together: undefined }) })}
    >
      {name}
    </Button>
  );
}

/** One metric over time. */
function One({ name, item }: { name: string; item: MetricItem | undefined }) {
  const { search, query } = useScope();
  const navigate = useNavigate({ from: "/traffic" });
  const by = search.by ?? (item && item.services.length > 1 ? "service" : "version");
  const asked = { ...query, by, ...(search.together && { together: search.together }) };
  const course = useQuery({
    ...reading("/api/v1/metrics/{name}", { params: { path: { name }, query: asked } }),
    placeholderData: (before) => before,
  });
  const set = (change: Record<string, string | undefined>) =>
    void navigate({ search: (now) => ({ ...now, ...change }) });
  const onWindow = (from: Date, to: Date) => set({ since: undefined, from: from.toISOString(), to: to.toISOString() });
  const back = (
    <Button look="link" onClick={() => set({ metric: undefined, by: undefined, together: undefined })}>
      All metrics
    </Button>
  );
  if (course.isPending) return <Skeleton isPage rows={6} />;
  if (course.isLoadingError)
    return (
      <>
        <Failed isPage what={`The metric ${name}`} error={course.error} retry={() => void course.refetch()} />
        {back}
      </>
    );
  const { data } = course;
  const fields = [...FIELDS, ...(item?.attributes ?? [])];
  return (
    <>
      <Answer note={`${KINDS[data.kind] ?? data.kind}, in ${windowInWords(search)}.`}>
        <span className="font-mono">{data.name}</span>
        {mostInWords(data)}
      </Answer>
      <p className="mt-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <label>
          By{" "}
          <Select
            label="A line for each"
            value={by}
            options={[...new Set([by, ...fields])].map((field) => [field, field] as const)}
            onChange={(by) => set({ by })}
          />
        </label>
        <label>
          Put together as{" "}
          <Select
            label="Put together as"
            value={data.together}
            options={[
              ...new Set([...TOGETHER, ...(data.kind === "distribution" ? PERCENTILES : []), data.together]),
            ].map((word) => [word, word] as const)}
            onChange={(together) => set({ together })}
          />
        </label>
        {back}
      </p>
      {data.lines.length === 0 ? (
        <p className="text-faint mt-4">Nothing came in this time: choose a longer window above.</p>
      ) : (
        <div className={course.isPlaceholderData ? "opacity-50" : undefined} aria-busy={course.isPlaceholderData}>
          <MetricChart course={data} onWindow={onWindow} />
        </div>
      )}
      {data.counted && <How name={name} counted={data.counted} onEnd={() => set({ metric: undefined })} />}
    </>
  );
}

type HowProps = { name: string; counted: components["schemas"]["CountedQuestion"]; onEnd: () => void };

/** How a question is counted, and what ends that. */
function How({ name, counted: how, onEnd }: HowProps) {
  const member = useMember().data;
  const end = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/metrics/{name}", { params: { path: { name } } })),
    onSuccess: async () => {
      await changed("/api/v1/metrics");
      onEnd();
    },
  });
  const isTheirs = member?.email === how.owner || member?.role === "admin";
  return (
    <div className="mt-3 text-[13px]">
      <p>
        Counted for good:{" "}
        <Link to="/ask" search={{ question: how.question }} className="font-mono break-words underline">
          {how.question}
        </Link>
      </p>
      {how.description && <p>{how.description}</p>}
      <p className="text-faint mt-1">
        In steps of {counted(how.step_ms / 60_000, "minute", "minutes")}, for {how.owner}
        {how.counted_from ? `, since ${minute(how.counted_from)}` : ""}.{" "}
        {how.hours_left > 0 && `${counted(how.hours_left, "hour is", "hours are")} to be counted still. `}
        {how.counted_from == null && how.hours_left === 0 && "The first hour is counted within a minute. "}
        {how.failure && `An hour could not be counted: ${how.failure}`}
      </p>
      {isTheirs && (
        <Confirm
          label="End the counting"
          title={`End the counting of ${name}?`}
          action="End it"
          isPending={end.isPending}
          onConfirm={() => end.mutate()}
        >
          All that was counted goes with it, for everybody. This cannot be undone.
        </Confirm>
      )}
      {end.error && <Refused what="Not ended" error={end.error} />}
    </div>
  );
}
