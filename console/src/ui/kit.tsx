import type { ComponentProps, ReactNode } from "react";
import { count, percent } from "./format";

const LOOKS = {
  main: "bg-accent text-on-accent rounded-sm px-4 py-1.5 font-semibold disabled:opacity-60",
  plain: "border-line bg-paper hover:bg-wash rounded-sm border px-2.5 py-1 disabled:opacity-60",
  bad: "border-line bg-paper text-brick hover:bg-wash rounded-sm border px-2.5 py-1 disabled:opacity-60",
  link: "text-accent min-h-6 hover:underline disabled:opacity-60",
};

type ButtonProps = ComponentProps<"button"> & {
  /** `main` for what a form is there for, `bad` for what cannot be undone, `link` within text. */
  look?: keyof typeof LOOKS;
};

/** Does something; what leads somewhere is a link. */
export function Button({ look = "plain", className = "", type = "button", ...rest }: ButtonProps) {
  return <button type={type} className={`${LOOKS[look]} ${className}`} {...rest} />;
}

/** The one sentence that answers what the page is asked; `note` says of what, and from when. */
export function Answer({ children, note }: { children: ReactNode; note?: ReactNode }) {
  return (
    <>
      <h1 className="text-xl leading-7 font-bold break-words">{children}</h1>
      {note && <p className="text-faint mt-1">{note}</p>}
    </>
  );
}

/** A page for whoever is not signed in, or comes from elsewhere: a column under the mark. */
export function Outside({ children }: { children: ReactNode }) {
  return (
    <main className="mx-auto mt-24 max-w-md px-5">
      <h1 className="mb-4 flex items-center gap-2 font-mono text-xl font-bold">
        <img src="/mark.svg" alt="" width="24" height="22" /> outcrop
      </h1>
      {children}
    </main>
  );
}

type HeadingProps = { children: ReactNode; note?: ReactNode; className?: string };

/** The heading of a part of a page, with what it is a part of. */
export function Heading({ children, note, className = "" }: HeadingProps) {
  return (
    <h2 className={`border-line border-b pb-1 font-semibold ${className}`}>
      {children}
      {note && <span className="text-faint ml-2 font-normal">{note}</span>}
    </h2>
  );
}

/** A page of the docs, which the service holds itself: `guides/connect`, with an anchor where one fits. */
export function DocsLink({ page, children }: { page: string; children: ReactNode }) {
  return (
    <a href={`/docs/${page}`} className="text-[13px] underline">
      {children}
    </a>
  );
}

const TONES = { bad: "border-brick", open: "border-ochre", good: "border-moss" };

/** What was done, what is `open` still, or why it was not done. Read aloud when it comes; what is `bad` at once. */
export function Callout({ tone, children }: { tone: keyof typeof TONES; children: ReactNode }) {
  return (
    <div
      role={tone === "bad" ? "alert" : "status"}
      className={`bg-sheet mt-2 border-l-4 px-3 py-2 break-words ${TONES[tone]}`}
    >
      {children}
    </div>
  );
}

/** Why something was not done. */
export function Refused({ what, error }: { what?: string; error: Error }) {
  return (
    <Callout tone="bad">
      {what && <span className="font-semibold">{what}: </span>}
      <span className="whitespace-pre-wrap">{error.message}</span>
    </Callout>
  );
}

type InputProps = Omit<ComponentProps<"input">, "onChange"> & {
  onChange: (value: string, field: HTMLInputElement) => void;
};

/** On a phone as large as text, since browsers there enlarge the page to a smaller field. */
const SIZES = "border-line bg-sheet rounded-sm border px-2 py-1 max-md:text-base!";

/** A field for a line of text, without a label of its own. */
export function Input({ className = "", onChange, ...rest }: InputProps) {
  return (
    <input
      className={`${SIZES} ${className}`}
      onChange={(event) => onChange(event.target.value, event.target)}
      {...rest}
    />
  );
}

type SelectProps<T extends string> = {
  value: T;
  /** What can be chosen, and the words for it, in order. */
  options: readonly (readonly [value: T, words: string])[];
  onChange: (value: T) => void;
  /** What it chooses, where no label around it says so. */
  label?: string;
  className?: string;
};

/** One of several, within a form. */
export function Select<T extends string>({ value, options, onChange, label, className = "" }: SelectProps<T>) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(event) => onChange(event.target.value as T)}
      className={`${SIZES} ${className}`}
    >
      {options.map(([each, words]) => (
        <option key={each} value={each}>
          {words}
        </option>
      ))}
    </select>
  );
}

type TextAreaProps = Omit<ComponentProps<"textarea">, "onChange"> & { onChange: (value: string) => void };

/** A field for several lines of text, in the fixed-width type. */
export function TextArea({ className = "", onChange, ...rest }: TextAreaProps) {
  return (
    <textarea
      className={`${SIZES} font-mono text-[13px] ${className}`}
      onChange={(event) => onChange(event.target.value)}
      {...rest}
    />
  );
}

type FieldProps = InputProps & {
  label: string;
  /** What is asked, or what nothing means. */
  hint?: string | undefined;
  /** Names, predicates and addresses stand in the fixed-width type. */
  isCode?: boolean;
};

/** A labelled field. */
export function Field({ label, hint, isCode = false, className = "", ...rest }: FieldProps) {
  return (
    <label className="block">
      <span className="font-semibold">{label}</span>
      {hint && <span className="text-faint"> {hint}</span>}
      <Input className={`mt-1 block w-full ${isCode ? "font-mono text-[13px]" : ""} ${className}`} {...rest} />
    </label>
  );
}

/** How many of all failed, and which share that is. */
export function FailedOf({ failed, of }: { failed: number; of: number }) {
  if (failed === 0) return "0";
  return (
    <>
      {count(failed)} {of > 0 && <span className="text-brick">({percent(failed / of)})</span>}
    </>
  );
}

type ThenProps = {
  children: ReactNode;
  /** What is surely different now, in words. */
  changes?: readonly string[];
  isWorse?: boolean;
};

/** What it was in the period held against. */
export function Then({ children, changes = [], isWorse = false }: ThenProps) {
  const colour = changes.length === 0 ? "text-faint" : isWorse ? "text-brick" : "text-moss";
  return (
    <span className={`block text-[12px] max-md:inline ${colour}`}>
      {children} then
      {changes.length > 0 && `: ${changes.join(", ")} now`}
    </span>
  );
}
