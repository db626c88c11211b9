import { useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { Choice } from "../../ui/choice";
import { count, duration } from "../../ui/format";
import {
  Answer,
  Button,
  Callout,
  FailedOf,
  Field,
  Heading,
  Input,
  Refused,
  Select,
  TextArea,
  Then,
} from "../../ui/kit";
import { prefer } from "../../ui/preferences";
import { Code, Empty, Failed, Key, Skeleton } from "../../ui/states";
import { Strata, Strip, type Timeline } from "../../ui/strata";
import { type Column, Table } from "../../ui/table";
import { Ago } from "../../ui/time";

const FRAMES = [
  ["light", 900],
  ["dark", 900],
  ["light", 390],
] as const;

/** Every part of the kit, in light, in dark and on a phone; in the development build alone. */
export function KitPage() {
  const { view } = useSearch({ from: "/kit" });
  if (view === "light" || view === "dark") return <Parts theme={view} />;
  return (
    <main className="flex flex-wrap gap-4 p-4">
      {FRAMES.map(([theme, width]) => (
        <iframe
          key={`${theme} ${width}`}
          src={`/kit?view=${theme}`}
          title={`${theme}, ${width} pixels`}
          width={width}
          height={2400}
        />
      ))}
    </main>
  );
}

type Endpoint = { name: string; requests: number; failed: number; p95: number | null };

const ENDPOINTS: Endpoint[] = [
  { name: "POST /v1/quotes/{sailing}", requests: 4_530, failed: 35, p95: 189 },
  { name: "GET /v1/tariffs/{route}", requests: 1_367, failed: 0, p95: null },
];

const COLUMNS: Column<Endpoint>[] = [
  { name: "endpoint", isCode: true, value: (row) => row.name, cell: (row) => row.name },
  { name: "requests", isNumber: true, value: (row) => row.requests, cell: (row) => count(row.requests) },
  {
    name: "failed",
    isNumber: true,
    value: (row) => row.failed,
    cell: (row) => (
      <>
        <FailedOf failed={row.failed} of={row.requests} />
        <Then changes={row.failed > 0 ? ["fails more"] : []} isWorse>
          0
        </Then>
      </>
    ),
  },
  { name: "p95", isNumber: true, value: (row) => row.p95, cell: (row) => (row.p95 === null ? "—" : duration(row.p95)) },
];

const START = Date.parse("2026-11-29T00:00:00Z");
const HOUR = 3_600_000;

const layer = (version: string, first: number, rate: number) => ({
  version,
  first_seen: new Date(START + first * HOUR).toISOString(),
  requests: Array.from({ length: 24 }, (_, at) => (at >= 18 === first > 0 ? 120 + ((at * 37) % 40) : 0)),
  occurrences: Array.from({ length: 24 }, (_, at) => (at >= 18 === first > 0 ? Math.round(rate * ((at * 13) % 9)) : 0)),
});

const TIMELINE: Timeline = {
  from: new Date(START).toISOString(),
  to: new Date(START + 24 * HOUR).toISOString(),
  step_ms: HOUR,
  layers: [layer("2.3.9", -1, 0.4), layer("2.4.0", 18, 4)],
};

function Parts({ theme }: { theme: "light" | "dark" }) {
  prefer({ theme });
  const [text, setText] = useState("fares");
  const [choice, setChoice] = useState("production");
  const nothing = () => undefined;
  return (
    <main className="space-y-6 p-5">
      <Answer note="The sentence that answers, and what it is of.">
        <span className="text-brick">26 % of the requests to fares 2.4.0 fail</span> since its deploy.
      </Answer>
      <Heading note="and what it says of itself">A heading</Heading>
      <p className="flex flex-wrap gap-2">
        <Button look="main">Main</Button>
        <Button>Plain</Button>
        <Button look="bad">Cannot be undone</Button>
        <Button look="link">A link’s look</Button>
        <Button disabled>Disabled</Button>
        <Key>j</Key>
      </p>
      <div className="grid gap-3 md:grid-cols-2">
        <Field label="Name of the service" hint="as it sends it" value={text} onChange={setText} />
        <Field isCode label="Predicate" value="users > 50" onChange={nothing} />
        <Input aria-label="A note" placeholder="worth knowing" onChange={nothing} />
        <Select label="Order" value="a" options={[["a", "in order"]]} onChange={nothing} />
        <TextArea aria-label="Text" placeholder="several lines" rows={2} onChange={nothing} />
        <Choice
          name="Environment"
          value={choice}
          options={["production", "staging"].map((value) => ({ value, label: value }))}
          onChange={setChoice}
        />
      </div>
      <Callout tone="good">It is done.</Callout>
      <Callout tone="open">Nothing is changed yet.</Callout>
      <Refused what="Not saved" error={new Error("an engineer can do it")} />
      <Table label="Endpoints" columns={COLUMNS} rows={ENDPOINTS} keyOf={(row) => row.name} total={15} />
      <Strata timeline={TIMELINE} service="fares" onWindow={nothing} onChoose={nothing} />
      <Strip timeline={TIMELINE} isYoung label="occurrences over time" />
      <p>
        Last seen <Ago at={TIMELINE.to} />
      </p>
      <Skeleton rows={2} />
      <Failed what="The endpoints" error={new Error("The service answered 502.")} retry={nothing} />
      <Empty title="Nothing failed in the last 24 h.">
        <p>Choose a longer window to see older errors.</p>
      </Empty>
      <Code label="Test report">outcrop send --service test --message 'it works'</Code>
    </main>
  );
}
