import { type ReactNode, useState } from "react";
import { count, counted } from "./format";
import { Button } from "./kit";
import { type Order, type Value, columnOf, csv, nextOrder, sorted } from "./rows";

export type Column<Row> = {
  /** Its head; also its name in the address and in files. */
  name: string;
  cell: (row: Row) => ReactNode;
  /** What it is sorted by and saved as; a column without one is neither. */
  value?: (row: Row) => Value;
  /** Numbers stand to the right, and the largest comes first. */
  isNumber?: boolean;
  /** Names and paths stand in the fixed-width type, and may break anywhere. */
  isCode?: boolean;
};

type Props<Row> = {
  /** What the rows are: the table's name, and that of a file of it. */
  label: string;
  columns: readonly Column<Row>[];
  rows: readonly Row[];
  keyOf: (row: Row) => string;
  /** How many there are in all, where the rows are not all of them. */
  total?: number | undefined;
  /** The order and what changes it, where it stands in the address; else the table keeps it. */
  order?: Order;
  onOrder?: (order: Order) => void;
};

/** Rows to compare: sorted by their heads, saved as a file; on a phone each row is a block of names and values. */
export function Table<Row>({ label, columns, rows, keyOf, total, order, onOrder }: Props<Row>) {
  const [own, setOwn] = useState<Order>();
  const now = onOrder ? order : own;
  const by = columns.find((column) => column.name === columnOf(now));
  const shown = by?.value ? sorted(rows, by.value, now?.startsWith("-") ?? false) : rows;
  const saved = columns.filter((column) => column.value);
  const values = () => shown.map((row) => saved.map((column) => column.value?.(row)));
  const save = (kind: "csv" | "json") => {
    const names = saved.map((column) => column.name);
    const text =
      kind === "csv"
        ? csv(names, values())
        : JSON.stringify(
            values().map((row) => Object.fromEntries(row.map((value, at) => [names[at], value ?? null])) as unknown),
            null,
            2,
          );
    download(
      `${label.toLowerCase().replaceAll(" ", "-")}.${kind}`,
      text,
      kind === "csv" ? "text/csv" : "application/json",
    );
  };
  return (
    <>
      <table aria-label={label} className="mt-3 w-full text-[13px] tabular-nums max-md:block">
        <thead className="bg-paper sticky top-0 z-10 max-md:sr-only">
          <tr>
            {columns.map((column) => (
              <Head
                key={column.name}
                column={column}
                order={columnOf(now) === column.name ? now : undefined}
                onClick={() => (onOrder ?? setOwn)(nextOrder(now, column.name, column.isNumber ?? false))}
              />
            ))}
          </tr>
        </thead>
        <tbody className="max-md:block">
          {shown.map((row) => (
            <tr key={keyOf(row)} className="border-line border-b max-md:block max-md:py-1.5">
              {columns.map((column, at) => (
                <td
                  key={column.name}
                  data-name={column.name}
                  className={`py-1.5 pr-3 align-top max-md:py-0 ${at === 0 ? "max-md:block" : "max-md:before:text-faint max-md:inline-block max-md:before:content-[attr(data-name)_'_']"} ${column.isNumber ? "whitespace-nowrap md:text-right" : ""} ${column.isCode ? "font-mono break-all" : ""}`}
                >
                  {column.cell(row)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="text-faint mt-1 flex flex-wrap gap-x-4 text-[13px]">
        <span>
          {total !== undefined && total > rows.length
            ? `${count(rows.length)} of ${count(total)} are shown: a narrower scope shows the others.`
            : counted(rows.length, "row", "rows")}
        </span>
        {saved.length > 0 && (
          <span className="ml-auto flex gap-x-4">
            <Button look="link" onClick={() => save("csv")} aria-label={`Save ${label} as CSV`}>
              CSV
            </Button>
            <Button look="link" onClick={() => save("json")} aria-label={`Save ${label} as JSON`}>
              JSON
            </Button>
          </span>
        )}
      </p>
    </>
  );
}

type HeadProps<Row> = { column: Column<Row>; order: Order; onClick: () => void };

function Head<Row>({ column, order, onClick }: HeadProps<Row>) {
  const isDown = order?.startsWith("-");
  return (
    <th
      scope="col"
      aria-sort={order === undefined ? undefined : isDown ? "descending" : "ascending"}
      className={`border-line text-faint border-b py-1 pr-3 font-normal ${column.isNumber ? "text-right" : "text-left"}`}
    >
      {column.value ? (
        <button type="button" onClick={onClick} className="min-h-6 hover:underline" title={`Sort by ${column.name}`}>
          {column.name}
          {order !== undefined && <span aria-hidden="true"> {isDown ? "▾" : "▴"}</span>}
        </button>
      ) : (
        column.name
      )}
    </th>
  );
}

/** Hands a text over as a file. */
function download(name: string, text: string, type: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
