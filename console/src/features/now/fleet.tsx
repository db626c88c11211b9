import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { FleetItem, NowReport } from "../../api/client";
import { count, counted, duration, percent } from "../../ui/format";
import { Button, Heading } from "../../ui/kit";
import { type Column, Table } from "../../ui/table";
import { TwinStrip } from "../../ui/twin-strip";
import { OUTCOMES, WORDS } from "./words";

/** Services shown at first, beside those of which something is told. */
const SHOWN = 25;

/** Every service in one row, the worst first. */
export function Fleet({ report }: { report: NowReport }) {
  const [isAll, setAll] = useState(false);
  const { fleet } = report;
  if (fleet.length === 0) return null;
  const shown = isAll ? fleet : fleet.filter((item, at) => at < SHOWN || item.worst);
  return (
    <section aria-label="Services" className="mt-5">
      <Heading note="the worst first; requests and failures of the last hour">Services</Heading>
      <Table
        label="Services"
        columns={COLUMNS}
        rows={shown}
        keyOf={(item) => item.service}
        {...(shown.length < fleet.length && { total: fleet.length })}
      />
      {shown.length < fleet.length && (
        <Button look="link" onClick={() => setAll(true)}>
          show all {counted(fleet.length, "service", "services")}
        </Button>
      )}
    </section>
  );
}

const share = ({ failed, requests }: FleetItem) => (requests === 0 ? null : failed / requests);

const COLUMNS: Column<FleetItem>[] = [
  {
    name: "service",
    value: (item) => item.service,
    cell: (item) => {
      const { word, colour } = (item.worst && WORDS[item.worst]) || { word: "", colour: "" };
      return (
        <>
          <Link to="/traffic" search={{ service: item.service }} className="font-semibold break-words">
            {item.service}
          </Link>{" "}
          {word && <b className={`${colour} whitespace-nowrap`}>{word}</b>}
        </>
      );
    },
  },
  {
    name: "requests",
    isNumber: true,
    value: (item) => item.requests,
    cell: (item) =>
      item.requests === 0 ? (
        <span className="text-faint">none</span>
      ) : (
        <Link to="/traffic" search={{ service: item.service, view: "requests", since: "1h" }}>
          {count(item.requests)}
        </Link>
      ),
  },
  {
    name: "failed",
    isNumber: true,
    value: share,
    cell: (item) => {
      const failed = share(item);
      if (failed === null) return <span className="text-faint">–</span>;
      if (failed === 0) return "none";
      return (
        <Link
          to="/traffic"
          search={{ service: item.service, view: "requests", only: "failed", since: "1h" }}
          className={item.worst === "failing" ? "text-brick font-semibold" : ""}
        >
          {percent(failed)}
        </Link>
      );
    },
  },
  {
    name: "the last hour",
    cell: (item) => (
      <TwinStrip
        failed={item.failed_by_step}
        requests={item.requests_by_step}
        label={`${count(item.failed)} of ${counted(item.requests, "request", "requests")} failed in the last hour`}
      />
    ),
  },
  {
    name: "95 % within",
    isNumber: true,
    value: (item) => item.p95_ms ?? null,
    cell: (item) =>
      item.p95_ms == null ? (
        <span className="text-faint">–</span>
      ) : (
        <span className={item.worst === "slow" ? "text-ochre font-semibold" : ""}>{duration(item.p95_ms)}</span>
      ),
  },
  {
    name: "usually",
    isNumber: true,
    value: (item) => item.p95_before_ms ?? null,
    cell: (item) => (
      <span className="text-faint">{item.p95_before_ms == null ? "–" : duration(item.p95_before_ms)}</span>
    ),
  },
  {
    name: "errors",
    value: (item) => item.new + item.surging + item.returned,
    cell: (item) => {
      const kinds = [
        [item.new, "new"],
        [item.surging, "surging"],
        [item.returned, "returned"],
      ] as const;
      const told = kinds.filter(([n]) => n > 0);
      if (told.length === 0) return <span className="text-faint">–</span>;
      return told.map(([n, kind], at) => (
        <span key={kind} className="whitespace-nowrap">
          {at > 0 && ", "}
          <Link to="/errors" search={{ service: item.service, where: `open and ${kind}` }}>
            {n} {kind}
          </Link>
        </span>
      ));
    },
  },
  {
    name: "runs",
    value: (item) => item.versions[0]?.version,
    cell: (item) => <Versions item={item} />,
  },
  {
    name: "deploy",
    value: (item) => item.deploy?.outcome,
    cell: ({ deploy, service, versions }) =>
      deploy ? (
        <Link
          to="/deploys/$service/$version"
          params={{ service, version: deploy.version }}
          search={{ environment: deploy.environment }}
          title={deploy.sentence}
          className={OUTCOMES[deploy.outcome] ?? ""}
        >
          {deploy.version !== versions[0]?.version && <span className="font-mono font-normal">{deploy.version} </span>}
          {deploy.outcome}
        </Link>
      ) : (
        <span className="text-faint">–</span>
      ),
  },
  {
    name: "owner",
    value: (item) => item.owner ?? null,
    cell: ({ owner }) => owner ?? <span className="text-faint">nobody</span>,
  },
];

/** The version that began last; how much of the requests it has where others run beside it. */
function Versions({ item }: { item: FleetItem }) {
  const [latest, ...others] = item.versions;
  if (!latest) return <span className="text-faint">–</span>;
  return (
    <span
      className="whitespace-nowrap"
      title={item.versions.map(({ version, share }) => `${version}: ${percent(share)}`).join(", ")}
    >
      <span className="font-mono">{latest.version}</span>
      {others.length > 0 && <span className="text-faint"> {percent(latest.share)}</span>}
    </span>
  );
}
