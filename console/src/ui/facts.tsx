import type { ReactNode } from "react";

export type Fact = {
  name: string;
  value: unknown;
  /** In the place of the value's text: a link. */
  shown?: ReactNode;
  /** What can be done with it. */
  action?: ReactNode;
};

const WIDTHS = {
  narrow: "grid grid-cols-[9.5rem_1fr] gap-x-3 py-0.5",
  wide: "grid gap-x-4 py-1 md:grid-cols-[20rem_1fr]",
};

type Props = {
  facts: readonly Fact[];
  /** How much room names need. */
  names?: keyof typeof WIDTHS;
  /** Whether the names are of attributes, in the fixed-width type. */
  areAttributes?: boolean;
};

/** Names and values, as they were sent: a text keeps its direction and its line breaks. */
export function Facts({ facts, names = "narrow", areAttributes = false }: Props) {
  return (
    <dl className="text-[13px]">
      {facts.map(({ name, value, shown, action }, at) => (
        <div key={`${name} ${at}`} className={`border-line border-b ${WIDTHS[names]}`}>
          <dt className={`text-faint [overflow-wrap:anywhere] ${areAttributes ? "font-mono" : ""}`}>{name}</dt>
          <dd className="font-mono [overflow-wrap:anywhere] whitespace-pre-wrap">
            {shown || <bdi>{typeof value === "string" ? value : JSON.stringify(value)}</bdi>}
            {action}
          </dd>
        </div>
      ))}
    </dl>
  );
}
