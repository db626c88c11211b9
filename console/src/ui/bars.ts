/** Where each layer's bars begin in each step: layers lie on each other, the oldest lowest. */
export function stacked(series: number[][]): number[][] {
  const bottoms: number[][] = [];
  series.forEach((values, at) => {
    bottoms.push(
      values.map((_, step) => (at === 0 ? 0 : (bottoms[at - 1]?.[step] ?? 0) + (series[at - 1]?.[step] ?? 0))),
    );
  });
  return bottoms;
}

export const sum = (values: number[]) => values.reduce((total, n) => total + n, 0);

/** The height of the highest stack, at least 1 or what is given. */
export const highest = (series: number[][], steps: number, least = 1) =>
  Math.max(least, ...Array.from({ length: steps }, (_, step) => sum(series.map((values) => values[step] ?? 0))));

/** A bar's place; `left` is where the first step begins. */
export type Box = { left?: number; top: number; height: number };

/** How wide a bar may be, in pixels: of one step alone it would fill the whole width. */
const WIDEST = 28;

/** The bars of a layer as one path: as many elements as layers, however many steps there are. Empty steps have none. */
export function boxes(values: number[], step: number, place: (n: number, at: number) => Box): string {
  const width = Math.min(WIDEST, Math.max(1, step - Math.min(1.5, step / 5)));
  const round = (n: number) => Math.round(n * 10) / 10;
  return values
    .flatMap((n, at) => {
      if (n === 0) return [];
      const { left = 0, top, height } = place(n, at);
      const x = left + at * step + (step > WIDEST ? (step - width) / 2 : 0);
      return [`M${round(x)} ${round(top)}h${round(width)}v${round(height)}h${round(-width)}z`];
    })
    .join("");
}
