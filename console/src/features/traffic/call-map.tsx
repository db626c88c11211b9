import dagre from "@dagrejs/dagre";
import { useMemo, useState } from "react";
import type { CallItem } from "../../api/client";
import { count, duration, percent } from "../../ui/format";
import { Select } from "../../ui/kit";

const HIGH = 26;
const KINDS: Record<string, string> = {
  database: "database",
  queue: "queue",
  consumed: "queue",
  http: "outside",
  rpc: "outside",
};

/** What the layout writes down of a node and of an edge; its types know neither. */
type Placed = { x: number; y: number; width: number };
type Routed = { points: { x: number; y: number }[] };

type Place = { name: string; kind: string; x: number; y: number; width: number };
type Line = { from: string; to: string; items: CallItem[]; points: { x: number; y: number }[] };

/** Places and lines, laid out from left to right. */
function layOut(items: CallItem[]): { places: Place[]; lines: Line[]; width: number; height: number } {
  const graph = new dagre.graphlib.Graph();
  graph.setGraph({ rankdir: "LR", nodesep: 12, ranksep: 90, marginx: 8, marginy: 8 });
  graph.setDefaultEdgeLabel(() => ({}));
  const kinds = new Map<string, string>();
  const pairs = new Map<string, Line>();
  const services = new Set(items.map((item) => item.service));
  for (const item of items) {
    const other = item.to_service ?? item.name;
    const [from, to] = item.kind === "consumed" ? [other, item.service] : [item.service, other];
    kinds.set(item.service, "service");
    if (!services.has(other) && !kinds.has(other))
      kinds.set(other, item.to_service ? "service" : (KINDS[item.kind] ?? "outside"));
    const line = pairs.get(`${from}\n${to}`) ?? { from, to, items: [], points: [] };
    line.items.push(item);
    pairs.set(`${from}\n${to}`, line);
  }
  for (const name of kinds.keys()) graph.setNode(name, { width: Math.min(220, name.length * 7.4 + 22), height: HIGH });
  for (const { from, to } of pairs.values()) if (from !== to) graph.setEdge(from, to);
  dagre.layout(graph);
  const places = [...kinds].map(([name, kind]) => {
    const { x, y, width } = graph.node(name) as Placed;
    return { name, kind, x, y, width };
  });
  const lines = [...pairs.values()]
    .filter(({ from, to }) => from !== to)
    .map((line) => ({ ...line, points: (graph.edge(line.from, line.to) as Routed).points }));
  const { width = 0, height = 0 } = graph.graph() as { width?: number; height?: number };
  return { places, lines, width, height };
}

const sum = (items: CallItem[], of: (item: CallItem) => number) => items.reduce((all, item) => all + of(item), 0);

/** Places up to which the whole map is shown at first: more are read around one of them. */
const MANY = 25;
/** How small the whole map may be drawn. */
const SCALES = [0.5, 0.7, 1] as const;

const ends = (item: CallItem) => [item.service, item.to_service ?? item.name];

/** The services and what they call, as a map; a place pointed at shows its own lines alone. Of many, the surroundings of one: who calls it,
 * what it calls, and the calls between these. */
export default function CallMap({ items, worst }: { items: CallItem[]; worst: string }) {
  const names = useMemo(() => [...new Set(items.flatMap(ends))].sort(), [items]);
  const [chosen, setChosen] = useState<string | null>();
  const [scale, setScale] = useState<number>(1);
  const [shown, setShown] = useState<string | null>(null);
  const around =
    chosen !== undefined
      ? chosen !== null && names.includes(chosen)
        ? chosen
        : null
      : names.length > MANY
        ? worst
        : null;
  const { places, lines, width, height } = useMemo(() => {
    if (around === null) return layOut(items);
    const near = new Set([around, ...items.filter((item) => ends(item).includes(around)).flatMap(ends)]);
    return layOut(items.filter((item) => ends(item).every((end) => near.has(end))));
  }, [items, around]);
  const most = Math.max(1, ...lines.map((line) => sum(line.items, (item) => item.count)));
  const choose = (name: string | null) => {
    setChosen(name);
    setShown(null);
  };
  return (
    <>
      <div className="mt-3 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-[13px]">
        <label>
          Shown:{" "}
          <Select
            value={around ?? ""}
            options={[
              ["", `everything: ${count(names.length)} places`],
              ...names.map((name) => [name, `around ${name}`] as const),
            ]}
            onChange={(name) => choose(name || null)}
          />
        </label>
        {around === null ? (
          <span role="group" aria-label="Size of the map" className="flex gap-1">
            {SCALES.map((one) => (
              <button
                key={one}
                type="button"
                aria-pressed={scale === one}
                onClick={() => setScale(one)}
                className="border-line aria-pressed:bg-wash rounded-sm border px-1.5 aria-pressed:font-semibold"
              >
                {Math.round(one * 100)} %
              </button>
            ))}
          </span>
        ) : (
          <span className="text-faint">
            who calls it, what it calls, and the calls between these; a click on a place goes there
          </span>
        )}
      </div>
      <div
        className="border-line bg-sheet mt-1 max-h-[30rem] overflow-auto rounded-sm border"
        role="region"
        aria-label="Map of calls"
        tabIndex={0}
      >
        <svg
          width={Math.max(width, 320) * (around === null ? scale : 1)}
          height={Math.max(height, 60) * (around === null ? scale : 1)}
          viewBox={`0 0 ${Math.max(width, 320)} ${Math.max(height, 60)}`}
          role="group"
          aria-label={`${places.length} services, databases and queues, and the calls between them; the table below has every number`}
        >
          <defs>
            <marker
              id="arrow"
              viewBox="0 0 8 8"
              refX="7"
              refY="4"
              markerWidth="7"
              markerHeight="7"
              markerUnits="userSpaceOnUse"
              orient="auto"
            >
              <path d="M0 0 8 4 0 8z" fill="context-stroke" />
            </marker>
          </defs>
          {lines.map((line) => {
            const [calls, failed] = [sum(line.items, (item) => item.count), sum(line.items, (item) => item.failed)];
            const isHidden = shown !== null && shown !== line.from && shown !== line.to;
            return (
              <path
                key={`${line.from} ${line.to}`}
                d={`M${line.points.map((point) => `${point.x} ${point.y}`).join("L")}`}
                fill="none"
                stroke={failed / Math.max(calls, 1) >= 0.01 ? "var(--color-brick)" : "var(--color-layer-3)"}
                strokeWidth={1 + 3 * Math.sqrt(calls / most)}
                opacity={isHidden ? 0.12 : 1}
                markerEnd="url(#arrow)"
              >
                <title>
                  {line.from} → {line.to}: {count(calls)} calls, {percent(failed / Math.max(calls, 1))} fail,{" "}
                  {duration(sum(line.items, (item) => item.total_ms) / Math.max(calls, 1))} on average
                </title>
              </path>
            );
          })}
          {places.map((place) => (
            <g
              key={place.name}
              role="button"
              tabIndex={0}
              aria-label={`Around ${place.name}`}
              onClick={() => choose(place.name)}
              onKeyDown={(event) => {
                if (event.key === "Enter" || event.key === " ") choose(place.name);
              }}
              onMouseEnter={() => setShown(place.name)}
              onMouseLeave={() => setShown(null)}
              onFocus={() => setShown(place.name)}
              onBlur={() => setShown(null)}
              className="cursor-pointer"
              transform={`translate(${place.x - place.width / 2} ${place.y - HIGH / 2})`}
            >
              <rect
                width={place.width}
                height={HIGH}
                rx={place.kind === "database" ? 12 : 2}
                fill={place.name === around ? "var(--color-wash)" : "var(--color-paper)"}
                stroke="var(--color-ink)"
                strokeWidth={place.name === around ? 2 : place.kind === "service" ? 1.2 : 0.8}
                strokeDasharray={place.kind === "outside" ? "3 3" : place.kind === "queue" ? "8 2" : undefined}
              />
              <text x={place.width / 2} y={17} textAnchor="middle" fontSize="12" fill="var(--color-ink)">
                {place.name.length > 28 ? `${place.name.slice(0, 27)}…` : place.name}
                <title>
                  {place.name}: {place.kind}
                </title>
              </text>
            </g>
          ))}
        </svg>
      </div>
    </>
  );
}
