import { type KeyboardEvent, type Ref, useId, useState } from "react";
import { Input } from "./kit";

type Props = {
  text: string;
  /** What the word at the caret may become. */
  offers: readonly string[];
  /** The text was changed; where the caret stands then. */
  onText: (text: string, caret: number | null) => void;
  /** An offer was taken. */
  onPut: (offer: string) => void;
  /** Enter, where no offer is chosen. */
  onEnter: () => void;
  /** The offers are to go: by Escape, or since the focus went elsewhere. */
  onLeave: () => void;
  /** Whether Escape leaves the field as well. */
  leavesByEscape: boolean;
  isWrong: boolean;
  label: string;
  placeholder: string;
  field?: Ref<HTMLInputElement> | undefined;
};

/** A line of text in a language: offers what may follow, by arrows, Tab and Enter. */
export function CompletedInput(props: Props) {
  const { text, offers, onText, onPut, onEnter, onLeave, leavesByEscape, isWrong, label, placeholder, field } = props;
  const [at, setAt] = useState(-1);
  const list = useId();
  const put = (offer: string) => {
    setAt(-1);
    onPut(offer);
  };
  const onKeyDown = (event: KeyboardEvent<HTMLInputElement>) => {
    const chosen = offers[at];
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      setAt((now) => Math.max(-1, Math.min(offers.length - 1, now + (event.key === "ArrowDown" ? 1 : -1))));
    } else if ((event.key === "Enter" || event.key === "Tab") && chosen !== undefined) {
      event.preventDefault();
      put(chosen);
    } else if (event.key === "Enter") {
      onEnter();
    } else if (event.key === "Escape") {
      // The browser would empty a search field.
      event.preventDefault();
      onLeave();
      if (leavesByEscape || offers.length === 0) event.currentTarget.blur();
    }
  };
  return (
    <>
      <Input
        ref={field}
        type="search"
        role="combobox"
        aria-label={label}
        aria-expanded={offers.length > 0}
        aria-controls={list}
        aria-autocomplete="list"
        aria-activedescendant={at >= 0 ? `${list}-${at}` : undefined}
        aria-invalid={isWrong}
        spellCheck={false}
        autoComplete="off"
        placeholder={placeholder}
        value={text}
        onChange={(value, field) => {
          setAt(-1);
          onText(value, field.selectionStart);
        }}
        onKeyDown={onKeyDown}
        onBlur={() => setTimeout(onLeave, 150)}
        className="text-ink w-full font-mono text-[13px]"
      />
      <div
        id={list}
        role="listbox"
        aria-label="Offers"
        className={
          offers.length > 0
            ? "border-line bg-sheet absolute z-20 mt-0.5 max-h-72 w-full max-w-xl overflow-auto rounded-sm border py-1 shadow-md"
            : "hidden"
        }
      >
        {offers.map((offer, index) => (
          <div
            key={offer}
            id={`${list}-${index}`}
            role="option"
            tabIndex={-1}
            aria-selected={index === at}
            onMouseDown={(event) => {
              event.preventDefault();
              put(offer);
            }}
            className="hover:bg-wash aria-selected:bg-wash cursor-pointer px-3 py-0.5 font-mono text-[13px] [overflow-wrap:anywhere] aria-selected:font-semibold"
          >
            {offer}
          </div>
        ))}
      </div>
    </>
  );
}

type Mistake = { at: number; length: number; message: string };

/** A text with the place of a mistake in it, and what would be right. */
export function Mistaken({ text, mistake }: { text: string; mistake: Mistake }) {
  return (
    <>
      <span className="font-mono">
        {text.slice(0, mistake.at)}
        <mark className="text-brick bg-transparent font-semibold underline decoration-wavy">
          {text.slice(mistake.at, mistake.at + mistake.length) || "▏"}
        </mark>
      </span>{" "}
      {mistake.message}
    </>
  );
}
