import { scaleLinear } from "@visx/scale";
import { useRef, useState } from "react";
import { type Box, boxes, highest, stacked, sum } from "./bars";
import { count, minute, tick, zone } from "./format";
import { Button } from "./kit";
import { useSteps } from "./steps";
import { type Column, Table } from "./table";
import { useWidth } from "./width";

/** Occurrences and requests of each version, step by step; all layers have the same steps. */
export type Timeline = {
  from: string;
  to: string;
  step_ms: number;
  layers: { version: string; occurrences: number[]; requests: number[]; first_seen: string }[];
};

/** The newest layer stands out; older ones lie lower and paler. */
function fill(at: number, layers: number, failing: boolean): string {
  const fromTop = layers - 1 - at;
  if (fromTop === 0) return failing ? "var(--color-brick)" : "var(--color-layer-4)";
  return `var(--color-layer-${Math.max(1, 4 - fromTop)})`;
}

/** The small strip beside an error: occurrences above, requests in their own lane below. */
export function Strip({ timeline, label, isYoung }: { timeline: Timeline; label: string; isYoung: boolean }) {
  const [width, high, lane] = [186, 24, 5];
  const steps = timeline.layers[0]?.occurrences.length ?? 0;
  const occurrences = timeline.layers.map((layer) => layer.occurrences);
  const requests = timeline.layers.map((layer) => layer.requests);
  const x = scaleLinear({ domain: [0, Math.max(steps, 1)], range: [0, width] });
  const y = scaleLinear({ domain: [0, highest(occurrences, steps)], range: [0, high] });
  const z = scaleLinear({ domain: [0, highest(requests, steps)], range: [0, lane] });
  const step = x(1) - x(0);
  const bottoms = stacked(occurrences);
  const total = Array.from({ length: steps }, (_, at) => sum(requests.map((values) => values[at] ?? 0)));
  return (
    <svg width={width} height={high + lane + 3} role="img" aria-label={label}>
      {occurrences.map((values, at) => (
        <path
          key={at}
          d={boxes(values, step, (n, place): Box => {
            const height = Math.max(1, y(n));
            return { top: high - y((bottoms[at]?.[place] ?? 0) + n), height };
          })}
          fill={fill(at, occurrences.length, isYoung)}
        />
      ))}
      <path
        d={boxes(total, step, (n) => ({ top: high + 2 + lane - z(n), height: z(n) }))}
        fill="var(--color-layer-1)"
      />
    </svg>
  );
}

/** Letters keep a rim of the page's colour, so that lines and bars behind them do not run through them. */
const HALO = "stroke-paper stroke-[4px] [paint-order:stroke]";

/** The strata chart: occurrences in layers, one per version, named in place; requests in a lane of their own below. */
type Mark = { id: number; at: string; title: string };
type StrataProps = {
  timeline: Timeline;
  service: string;
  /** Other changes, drawn where they fall. */
  marks?: Mark[];
  onWindow: (from: Date, to: Date) => void;
  /** A step with occurrences was clicked. */
  onChoose?: (at: Date) => void;
};

export function Strata({ timeline, service, marks = [], onWindow, onChoose }: StrataProps) {
  const [high, lane, left, gap] = [104, 26, 46, 14];
  const frame = useRef<SVGSVGElement>(null);
  const width = useWidth(frame);
  const [isTable, setTable] = useState(false);
  const layers = timeline.layers;
  const steps = layers[0]?.occurrences.length ?? 0;
  const start = Date.parse(timeline.from);
  const span = Date.parse(timeline.to) - start;
  const x = scaleLinear({ domain: [0, Math.max(steps, 1)], range: [left, width] });
  const occurrences = layers.map((layer) => layer.occurrences);
  const requests = layers.map((layer) => layer.requests);
  const most = highest(occurrences, steps);
  const mostRequests = highest(requests, steps);
  const y = scaleLinear({ domain: [0, most], range: [0, high - 16] });
  const z = scaleLinear({ domain: [0, mostRequests], range: [0, lane] });
  const [bottoms, floors] = [stacked(occurrences), stacked(requests)];
  const step = x(1) - x(0);
  const timeOf = (step: number) => new Date(start + step * timeline.step_ms);
  const begins = layers
    .map((layer, at) => ({ layer, at, step: Math.floor((Date.parse(layer.first_seen) - start) / timeline.step_ms) }))
    .filter(({ step }) => step >= 0 && step < steps);
  const { over, part, slider, pointer } = useSteps({
    steps,
    frame,
    stepAt: (share) => x.invert(share * width),
    onPart: (from, to) => onWindow(timeOf(from), timeOf(to)),
    onStep: (step) => {
      if (occurrences.some((values) => (values[step] ?? 0) > 0)) onChoose?.(timeOf(step));
    },
  });
  const inWords = (at: number) =>
    `${minute(timeOf(at))} ${zone(timeOf(at))} · ${layers
      .map(
        (layer) =>
          `${layer.version}: ${count(layer.occurrences[at] ?? 0)} in ${count(layer.requests[at] ?? 0)} requests`,
      )
      .join(" · ")}`;
  const columns: Column<number>[] = [
    { name: "from", value: (at) => timeOf(at).toISOString(), cell: (at) => minute(timeOf(at)) },
    ...layers.flatMap((layer): Column<number>[] => [
      {
        name: `${layer.version}: occurrences`,
        isNumber: true,
        value: (at) => layer.occurrences[at],
        cell: (at) => count(layer.occurrences[at] ?? 0),
      },
      {
        name: `${layer.version}: requests`,
        isNumber: true,
        value: (at) => layer.requests[at],
        cell: (at) => count(layer.requests[at] ?? 0),
      },
    ]),
  ];
  const rows = Array.from({ length: steps }, (_, at) => at).filter((at) =>
    [...occurrences, ...requests].some((values) => (values[at] ?? 0) > 0),
  );
  const tickCount = width < 600 ? 3 : 5;
  const ticks = Array.from({ length: tickCount }, (_, at) => Math.round(((at + 0.5) * steps) / tickCount));
  const total = sum(occurrences.map(sum));
  const shownMarks = marks
    .map((mark) => ({ mark, step: (Date.parse(mark.at) - start) / timeline.step_ms }))
    .filter(({ step }) => step >= 0 && step <= steps);
  return (
    <figure className="my-3">
      <div
        {...slider}
        aria-label={`${count(total)} occurrences in ${steps} steps, by version: ${layers.map((layer) => `${layer.version} ${count(sum(layer.occurrences))} of ${count(sum(layer.requests))} requests`).join("; ")}`}
        aria-valuetext={over === null ? "no step is chosen" : inWords(over)}
      >
        <svg
          ref={frame}
          viewBox={`0 0 ${width} ${high + gap + lane + 18}`}
          className="h-[162px] w-full touch-pan-y select-none"
          aria-hidden="true"
          {...pointer}
        >
          <text x={0} y={20} className="fill-faint text-[11px]">
            {count(most)}
          </text>
          {part && (
            <rect
              x={x(part[0])}
              width={x(part[1] + 1) - x(part[0])}
              y={0}
              height={high + gap + lane}
              fill="var(--color-wash)"
            />
          )}
          {occurrences.map((values, at) => (
            <path
              key={at}
              d={boxes(values, step, (n, place): Box => {
                const height = Math.max(1.5, y(n));
                return { left, top: high - y((bottoms[at]?.[place] ?? 0) + n), height };
              })}
              fill={fill(at, layers.length, true)}
            />
          ))}
          <line x1={left} x2={width} y1={high} y2={high} stroke="var(--color-line)" />
          {requests.map((values, at) => (
            <path
              key={at}
              d={boxes(values, step, (n, place): Box => {
                const top = high + gap + lane - z((floors[at]?.[place] ?? 0) + n);
                return { left, top, height: z(n) };
              })}
              fill={fill(at, layers.length, false)}
              opacity={0.55}
            />
          ))}
          <line x1={left} x2={width} y1={high + gap + lane} y2={high + gap + lane} stroke="var(--color-line)" />
          <text x={0} y={high + gap + lane} className="fill-faint text-[11px]">
            {count(mostRequests)} r.
          </text>
          {shownMarks.map(({ mark, step }) => (
            <line
              key={mark.id}
              x1={x(step)}
              x2={x(step)}
              y1={0}
              y2={high + gap + lane}
              stroke="var(--color-ochre)"
              strokeWidth={1.5}
            />
          ))}
          {begins.map(({ layer, at, step }) => {
            const end = x(step) > width * 0.6;
            return (
              <g key={layer.version}>
                <line
                  x1={x(step)}
                  x2={x(step)}
                  y1={4}
                  y2={high + gap + lane}
                  stroke={fill(at, layers.length, true)}
                  strokeDasharray="3 3"
                />
                <text
                  x={x(step) + (end ? -6 : 6)}
                  y={13 + (at % 3) * 14}
                  textAnchor={end ? "end" : "start"}
                  className={`fill-ink text-[12px] ${HALO}`}
                >
                  {/* On a phone the numbers stand in the table alone. */}
                  {width < 500 ? "" : service} {layer.version} begins {tick(new Date(layer.first_seen), 0)}
                  {width >= 500 && ` · ${count(sum(layer.occurrences))} in ${count(sum(layer.requests))} requests`}
                </text>
              </g>
            );
          })}
          {layers.map((layer, at) =>
            begins.some((begin) => begin.layer === layer) ? null : (
              <text
                key={layer.version}
                x={left + 4}
                y={13 + (at % 3) * 14}
                className={`fill-faint text-[12px] ${HALO}`}
              >
                {service} {layer.version}: {sum(layer.occurrences) === 0 ? "none" : count(sum(layer.occurrences))} in{" "}
                {count(sum(layer.requests))} requests
              </text>
            ),
          )}
          {shownMarks.map(({ mark, step }) => (
            <text
              key={mark.id}
              x={x(step) + (x(step) > width * 0.6 ? -6 : 6)}
              y={high + gap - 3}
              textAnchor={x(step) > width * 0.6 ? "end" : "start"}
              className={`fill-ochre text-[11px] ${HALO}`}
            >
              ◆ {mark.title}
            </text>
          ))}
          {ticks.map((step) => (
            <text
              key={step}
              x={x(step)}
              y={high + gap + lane + 14}
              textAnchor="middle"
              className="fill-faint text-[11px]"
            >
              {tick(timeOf(step), span)}
            </text>
          ))}
          {over !== null && (
            <line
              x1={x(over + 0.5)}
              x2={x(over + 0.5)}
              y1={0}
              y2={high + gap + lane}
              stroke="var(--color-faint)"
              opacity={0.5}
            />
          )}
        </svg>
      </div>
      <figcaption className="text-faint flex min-h-5 flex-wrap justify-between gap-x-4 text-xs">
        <span>
          {over === null
            ? `Times in ${zone()} · drag to look at a part${onChoose ? ", click for an occurrence" : ""} · or by arrows, Shift and Enter`
            : inWords(over)}
        </span>
        <Button look="link" aria-expanded={isTable} onClick={() => setTable(!isTable)} className="min-h-5">
          {isTable ? "hide the table" : "as a table"}
        </Button>
      </figcaption>
      {isTable && (
        <div className="max-h-80 overflow-auto" role="region" aria-label="The chart as a table" tabIndex={0}>
          <Table label="Occurrences over time" columns={columns} rows={rows} keyOf={(row) => String(row)} />
        </div>
      )}
    </figure>
  );
}
