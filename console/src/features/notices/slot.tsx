import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import type { ReactNode } from "react";

type SlotProps = {
  /** What the slot is, for screen readers. */
  name: string;
  /** What it says in the sentence. */
  said: string;
  /** Whether nothing is chosen for it. */
  isOpen?: boolean;
  children: ReactNode;
};

/** A part of a sentence that can be changed: what it says is a button, which opens what can be said instead. */
export function Slot({ name, said, isOpen = false, children }: SlotProps) {
  return (
    <Popover className="inline">
      <PopoverButton
        aria-label={`${name}: ${said}`}
        className={`text-accent min-h-6 border-b border-dashed text-left hover:border-solid ${isOpen ? "italic" : "font-semibold"}`}
      >
        {said}
      </PopoverButton>
      <PopoverPanel
        anchor="bottom start"
        className="border-line bg-sheet text-ink z-20 w-80 max-w-[calc(100vw-2rem)] space-y-2 rounded-sm border p-3 text-[14px] [--anchor-gap:4px]"
      >
        {children}
      </PopoverPanel>
    </Popover>
  );
}

type ChecksProps = {
  legend: string;
  options: readonly (readonly [value: string, words: string])[];
  chosen: readonly string[];
  onChange: (chosen: string[]) => void;
};

/** Any of several. */
export function Checks({ legend, options, chosen, onChange }: ChecksProps) {
  return (
    <fieldset className="max-h-72 overflow-auto">
      <legend className="font-semibold">{legend}</legend>
      {options.map(([value, words]) => (
        <label key={value} className="flex min-h-6 items-baseline gap-2">
          <input
            type="checkbox"
            checked={chosen.includes(value)}
            onChange={(event) =>
              onChange(
                // In the order in which they are offered: a sentence reads the same however it was made.
                options
                  .map(([each]) => each)
                  .filter((each) => (each === value ? event.target.checked : chosen.includes(each))),
              )
            }
          />
          {words}
        </label>
      ))}
    </fieldset>
  );
}
