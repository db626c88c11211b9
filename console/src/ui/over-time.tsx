import { scaleLinear } from "@visx/scale";
import { useRef, useState } from "react";
import { boxes, highest, stacked, sum } from "./bars";
import { minute, tick, zone } from "./format";
import { Button } from "./kit";
import { useSteps } from "./steps";
import { type Column, Table } from "./table";
import { useWidth } from "./width";

/** One value for each step; null where there is none. */
export type Series = {
  name: string;
  values: (number | null)[];
  /** Whether it is all that has no series of its own. */
  isRest?: boolean;
};

type Props = {
  from: string;
  stepMs: number;
  /** The first lies lowest, or is drawn last. */
  series: readonly Series[];
  /** Whether they add up, and lie on each other; else each is a line. */
  addUp: boolean;
  /** What is drawn. */
  label: string;
  shown: (value: number | null) => string;
  /** Whether a step without a value says nothing, as of a sender that reports every few minutes; else it is a gap. */
  isSampled?: boolean;
  onWindow: (from: Date, to: Date) => void;
};

/** Steps that a line crosses at most where its sender reports seldom. */
const MOST_BRIDGED = 8;

const [HIGH, LEFT] = [150, 52];
/** Layers are told apart by their shade and their order, which the list below the chart has as well. */
const FILLS = ["layer-4", "layer-2", "accent", "layer-3", "layer-1", "faint"].map((name) => `var(--color-${name})`);
const REST = "var(--color-line)";
const fill = (series: Series, at: number) => (series.isRest ? REST : FILLS[at % FILLS.length]);
const DASHES = ["", "6 3", "2 3", "10 3 2 3", "1 4", "14 4"];

/** Series over time: layers where they add up, else lines; a table behind them, and all of it by keyboard. */
export function OverTime({ from, stepMs, series, addUp, label, shown, isSampled = false, onWindow }: Props) {
  const frame = useRef<SVGSVGElement>(null);
  const width = useWidth(frame);
  const [isTable, setTable] = useState(false);
  const steps = series[0]?.values.length ?? 0;
  const values = series.map(({ values }) => values.map((value) => value ?? 0));
  const most = addUp ? highest(values, steps, 0) || 1 : Math.max(1e-9, ...values.flat());
  const x = scaleLinear({ domain: [0, Math.max(1, steps)], range: [LEFT, width] });
  const y = scaleLinear({ domain: [0, most], range: [0, HIGH - 12], nice: false });
  const bottoms = stacked(values);
  const timeOf = (step: number) => new Date(Date.parse(from) + step * stepMs);
  const { over, part, slider, pointer } = useSteps({
    steps,
    frame,
    stepAt: (share) => x.invert(share * width),
    onPart: (from, to) => onWindow(timeOf(from), timeOf(to)),
  });
  const inWords = (step: number) =>
    `${minute(timeOf(step))} ${zone(timeOf(step))} · ${series
      .filter(({ values }) => values[step] != null)
      .map(({ name, values }) => `${name}: ${shown(values[step] ?? null)}`)
      .join(" · ")}`;
  const columns: Column<number>[] = [
    { name: "from", value: (at) => timeOf(at).toISOString(), cell: (at) => minute(timeOf(at)) },
    ...series.map(({ name, values }): Column<number> => ({
      name,
      isNumber: true,
      value: (at) => values[at] ?? undefined,
      cell: (at) => shown(values[at] ?? null),
    })),
  ];
  const rows = Array.from({ length: steps }, (_, at) => at).filter((at) =>
    series.some(({ values }) => values[at] != null),
  );
  const tickCount = width < 600 ? 3 : 5;
  const ticks = Array.from({ length: tickCount }, (_, at) => Math.round(((at + 0.5) * steps) / tickCount));
  return (
    <figure className="my-3" aria-label={label}>
      <div
        {...slider}
        aria-label={`${label} in ${steps} steps: ${inAll(series, addUp, shown)}`}
        aria-valuetext={over === null ? "no step is chosen" : inWords(over)}
      >
        <svg
          ref={frame}
          viewBox={`0 0 ${width} ${HIGH + 18}`}
          className="w-full touch-pan-y select-none"
          aria-hidden="true"
          {...pointer}
        >
          <line x1={LEFT} x2={width} y1={HIGH} y2={HIGH} stroke="var(--color-line)" />
          <text x={LEFT - 6} y={12} textAnchor="end" className="fill-faint text-[11px]">
            {shown(most)}
          </text>
          <text x={LEFT - 6} y={HIGH} textAnchor="end" className="fill-faint text-[11px]">
            0
          </text>
          {part && (
            <rect x={x(part[0])} width={x(part[1] + 1) - x(part[0])} y={0} height={HIGH} fill="var(--color-wash)" />
          )}
          {series.map((each, at) =>
            addUp ? (
              <path
                key={each.name}
                d={boxes(values[at] ?? [], x(1) - x(0), (n, step) => ({
                  left: LEFT,
                  top: HIGH - y((bottoms[at]?.[step] ?? 0) + n),
                  height: Math.max(1, y(n)),
                }))}
                fill={fill(each, at)}
              />
            ) : (
              <path
                key={each.name}
                d={lines(
                  each.values,
                  (step, value) => [x(step + 0.5), HIGH - y(value)],
                  isSampled ? Math.min(MOST_BRIDGED, usualGap(each.values) + 1) : 1,
                )}
                fill="none"
                stroke={fill(each, at)}
                strokeWidth={1.8}
                strokeDasharray={DASHES[at % DASHES.length]}
              />
            ),
          )}
          {ticks.map((step) => (
            <text key={step} x={x(step)} y={HIGH + 14} textAnchor="middle" className="fill-faint text-[11px]">
              {tick(timeOf(step), steps * stepMs)}
            </text>
          ))}
          {over !== null && (
            <line x1={x(over + 0.5)} x2={x(over + 0.5)} y1={0} y2={HIGH} stroke="var(--color-faint)" opacity={0.5} />
          )}
        </svg>
      </div>
      <ul className="flex flex-wrap gap-x-4 text-xs" aria-label="Legend">
        {series.map((each, at) => (
          <li key={each.name} className="flex max-w-72 items-center gap-1.5">
            <svg width="18" height="10" aria-hidden="true" className="shrink-0">
              {addUp ? (
                <rect width="10" height="10" fill={fill(each, at)} />
              ) : (
                <line
                  x1="0"
                  x2="18"
                  y1="5"
                  y2="5"
                  stroke={fill(each, at)}
                  strokeWidth="2"
                  strokeDasharray={DASHES[at % DASHES.length]}
                />
              )}
            </svg>
            <span className="truncate" title={each.name}>
              {each.name}
            </span>
          </li>
        ))}
      </ul>
      <figcaption className="text-faint flex min-h-5 flex-wrap justify-between gap-x-4 text-xs">
        <span>
          {over === null
            ? `Times in ${zone()} · drag to ask of a part alone · or by arrows, Shift and Enter`
            : inWords(over)}
        </span>
        <Button look="link" aria-expanded={isTable} onClick={() => setTable(!isTable)} className="min-h-5">
          {isTable ? "hide the table" : "as a table"}
        </Button>
      </figcaption>
      {isTable && (
        <div className="max-h-80 overflow-auto" role="region" aria-label="The chart as a table" tabIndex={0}>
          <Table label={`${label} over time`} columns={columns} rows={rows} keyOf={(row) => String(row)} />
        </div>
      )}
    </figure>
  );
}

/** What all series come to, or their names where they do not add up. */
function inAll(series: readonly Series[], addUp: boolean, shown: Props["shown"]): string {
  const total = (values: Series["values"]) => shown(sum(values.map((value) => value ?? 0)));
  return series.map(({ name, values }) => (addUp ? `${name}: ${total(values)}` : name)).join(", ");
}

/** How many steps there are from one value to the next as a rule: where a sender says something less often than by the step. */
export function usualGap(values: readonly (number | null)[]): number {
  const there = values.flatMap((value, step) => (value === null ? [] : [step]));
  const gaps = there.slice(1).map((step, at) => step - (there[at] ?? step));
  return gaps.sort((one, other) => one - other)[Math.floor(gaps.length / 2)] ?? 1;
}

/**
 * A path through the values that are there; it breaks where there is none for longer than `gap` steps, and a value
 * between two breaks is a dot.
 */
export function lines(
  values: readonly (number | null)[],
  place: (step: number, value: number) => [number, number],
  gap = 1,
): string {
  const round = (n: number) => Math.round(n * 10) / 10;
  const there = values.flatMap((value, step) => (value === null ? [] : [{ step, value }]));
  return there
    .map(({ step, value }, at) => {
      const [x, y] = place(step, value).map(round) as [number, number];
      const isBegin = step - (there[at - 1]?.step ?? -Infinity) > gap;
      const isAlone = isBegin && (there[at + 1]?.step ?? Infinity) - step > gap;
      return `${isBegin ? "M" : "L"}${x} ${y}${isAlone ? "h2" : ""}`;
    })
    .join("");
}
