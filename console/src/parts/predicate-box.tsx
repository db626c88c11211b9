import { useQuery } from "@tanstack/react-query";
import { type Ref, useState } from "react";
import { reading } from "../api/client";
import { CompletedInput, Mistaken } from "../ui/completed";

/** What only stands in predicates: a field with a test, a word of the language alone, a quoted text, a reference. */
const TESTS = [
  /(^|[\s(])[\w.-]+\s*(!?=|<=?|>=?)/,
  /(^|[\s(])[\w.-]+\s+(not\s+)?in\s*\(/i,
  /(^|[\s(])[\w.-]+\s+(not\s+)?(contains|like)\s+\S/i,
  /(^|[\s(])[\w.-]+\s+is\s+(not\s+)?set\b/i,
  /(^|[\s(])[\w.-]+\s+from\s+\S+\s+to\s+\S/i,
  /^\s*\(?\s*(not\s+)?(uncaught|caught|open|taken|mine|settled|quiet|new|surging|returned)\s*\)?\s*($|(and|or)\b)/i,
  /^\s*taken\s+by\b/i,
  /^\s*("[^"]*"|'[^']*')\s*($|(and|or)\b)/i,
  /^\s*[a-z]{5}-[a-z]{5}\s*($|(and|or)\b)/,
];

/** Whether a text is meant as a predicate, not as words to look for among what is shown. */
export function isPredicate(text: string): boolean {
  return TESTS.some((test) => test.test(text));
}

type Props = {
  /** The predicate in force. */
  value: string | undefined;
  /** Called with a predicate to apply, or nothing to take it away. */
  onApply: (predicate: string | undefined) => void;
  /** Words that filter what is shown, as they are typed; a box without words takes predicates alone. */
  words?: string | undefined;
  onWords?: (words: string | undefined) => void;
  placeholder: string;
  label: string;
  field?: Ref<HTMLInputElement>;
};

/** A box for a predicate: offers names and values as it is written, says what is wrong with it, applies it on Enter. */
export function PredicateBox({ value, onApply, words, onWords, placeholder, label, field }: Props) {
  const [text, setText] = useState(value ?? words ?? "");
  const [applied, setApplied] = useState(value);
  const [place, setPlace] = useState<number | null>(null);
  if (applied !== value) {
    // The address changed from elsewhere: by a link that narrows, by going back.
    setApplied(value);
    setText(value ?? words ?? "");
  }
  const asks = isPredicate(text) || !onWords;
  const completion = useQuery({
    ...reading("/api/v1/predicate/complete", { params: { query: { text, at: place ?? text.length } } }),
    enabled: place !== null && text !== "",
    staleTime: 10_000,
    placeholderData: (before) => before,
  });
  const isOpen = place !== null && text !== (value ?? "");
  const offers =
    isOpen && completion.data
      ? completion.data.offers.filter((offer) => offer !== text.slice(completion.data.from, place))
      : [];
  const mistake = asks && text !== (value ?? "") ? completion.data?.mistake : null;

  const change = (next: string, caret: number | null) => {
    setText(next);
    setPlace(caret ?? next.length);
    if (next === "") onApply(undefined);
    if (onWords) onWords(isPredicate(next) || next === "" ? undefined : next);
  };
  const put = (offer: string) => {
    const from = completion.data?.from ?? text.length;
    const after = text.slice(place ?? text.length);
    const next = `${text.slice(0, from)}${offer} ${after.trimStart()}`;
    change(next, from + offer.length + 1);
  };
  return (
    <div className="relative my-3">
      <CompletedInput
        field={field}
        label={label}
        placeholder={placeholder}
        text={text}
        offers={offers}
        onText={change}
        onPut={put}
        onEnter={() => {
          if (!asks || text.trim() === "") return;
          onApply(text.trim());
          setPlace(null);
        }}
        onLeave={() => setPlace(null)}
        leavesByEscape={!asks}
        isWrong={Boolean(mistake)}
      />
      {asks && offers.length === 0 && text.trim() !== "" && text !== (value ?? "") && (
        <p className="text-faint mt-1 text-[13px]" role="status">
          {mistake ? <Mistaken text={text} mistake={mistake} /> : "Enter narrows to this."}
        </p>
      )}
    </div>
  );
}

/** A test of one attribute's value, as it is written in a predicate. */
export function testOf(name: string, value: string): string {
  return `${name} = "${value.replace(/\\/g, "\\\\").replace(/"/g, '\\"')}"`;
}

/** The tests that a predicate joins by `and`, outermost; one alone where it is joined by `or`. */
function joined(predicate: string): { tests: string[]; isEither: boolean } {
  const tests: string[] = [];
  let [test, quote, depth, isEither] = ["", "", 0, false];
  for (const part of predicate.split(/(\s+(?:and|or)\s+|\\.|["'()])/i)) {
    if (quote) quote = part === quote ? "" : quote;
    else if (part === '"' || part === "'") quote = part;
    else if (part === "(") depth += 1;
    else if (part === ")") depth -= 1;
    else if (depth === 0 && /^\s+or\s+$/i.test(part)) isEither = true;
    else if (depth === 0 && /^\s+and\s+$/i.test(part)) {
      tests.push(test.trim());
      test = "";
      continue;
    }
    test += part;
  }
  return { tests: [...tests, test.trim()], isEither };
}

/** A predicate narrowed by one more test. */
export function narrowed(predicate: string | undefined, test: string): string {
  if (!predicate) return test;
  const { tests, isEither } = joined(predicate);
  if (isEither) return `(${predicate}) and ${test}`;
  return tests.includes(test) ? predicate : `${predicate} and ${test}`;
}
