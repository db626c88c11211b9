/** A value of a cell: what its column is sorted by, and what is saved of it. */
export type Value = number | string | null | undefined;

/** How a table is sorted: the column's name, after a minus where the largest comes first. */
export type Order = string | undefined;

/** The order after a click on a column's head: the natural one first, then its reverse, then as it came. */
export function nextOrder(order: Order, name: string, isNumber: boolean): Order {
  const [first, second] = isNumber ? [`-${name}`, name] : [name, `-${name}`];
  return order === first ? second : order === second ? undefined : first;
}

/** What the column of an order is called. */
export const columnOf = (order: Order) => order?.replace(/^-/, "");

const inOrder = new Intl.Collator("en", { numeric: true }).compare;

/** The rows by their values, those without one last either way; rows of equal value keep their places. */
export function sorted<Row>(rows: readonly Row[], value: (row: Row) => Value, isDescending: boolean): Row[] {
  const sign = isDescending ? -1 : 1;
  return [...rows].sort((one, other) => {
    const [left, right] = [value(one), value(other)];
    if (left == null || right == null) return Number(left == null) - Number(right == null);
    if (typeof left === "number" && typeof right === "number") return sign * (left - right);
    return sign * inOrder(String(left), String(right));
  });
}

/** Values as a CSV file (RFC 4180); a text that a spreadsheet would run as a formula is made text by an apostrophe. */
export function csv(names: readonly string[], rows: readonly (readonly Value[])[]): string {
  const cell = (value: Value) => {
    if (value == null) return "";
    if (typeof value === "number") return String(value);
    const safe = /^[=+\-@\t\r]/.test(value) ? `'${value}` : value;
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  };
  return [names, ...rows].map((row) => `${row.map(cell).join(",")}\r\n`).join("");
}
