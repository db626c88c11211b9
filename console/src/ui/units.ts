/** Numbers of metrics as people read them, by the unit that was sent (UCUM, as OpenTelemetry asks). */

import { duration, percent } from "./format";

const SECONDS: Record<string, number> = { ns: 1e-6, us: 1e-3, ms: 1, s: 1_000, min: 60_000, h: 3_600_000 };
const BYTES: Record<string, number> = { By: 1, kBy: 1e3, KiBy: 1_024, MBy: 1e6, MiBy: 1_048_576, GiBy: 1_073_741_824 };
const THOUSANDS = ["", " k", " M", " G", " T"];

/** Three digits that count, in thousands, millions and so on: `188 M`. */
export function short(value: number): string {
  if (value === 0) return "0";
  const size = Math.abs(value);
  const step = size < 1_000 ? 0 : Math.min(Math.floor(Math.log10(size) / 3), THOUSANDS.length - 1);
  const number = Number((value / 1_000 ** step).toPrecision(3));
  return `${number}${THOUSANDS[step] ?? ""}`.replace("-", "−");
}

/** A number with its unit; a dash where there is none. */
export function measured(value: number | null, unit: string): string {
  if (value === null) return "–";
  const [base, per] = unit.split("/");
  const bytes = BYTES[base ?? ""];
  const said =
    bytes !== undefined
      ? `${short(value * bytes)}${Math.abs(value * bytes) < 1_000 ? " " : ""}B`
      : SECONDS[unit] !== undefined && value >= 0
        ? duration(value * SECONDS[unit])
        : unit === "%"
          ? `${short(value)} %`
          : short(value);
  return per && bytes !== undefined ? `${said}/${per}` : said;
}

/** Whether numbers of a metric are shares: of the unit 1, and by their name parts of a whole. */
export const isShare = (name: string, unit: string) => unit === "1" && /(utilization|ratio)$/.test(name);

/** A number of a metric by its name and unit. */
export const ofMetric = (name: string, unit: string) => (value: number | null) =>
  value !== null && isShare(name, unit) ? percent(value) : measured(value, unit);
