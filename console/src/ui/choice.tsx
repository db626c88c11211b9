import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";

export type Option = { value: string; label: string };

/** One of several, in the bar. */
export function Choice({
  name,
  value,
  options,
  onChange,
}: {
  name: string;
  value: string;
  options: Option[];
  onChange: (value: string) => void;
}) {
  const chosen = options.find((option) => option.value === value)?.label ?? value;
  return (
    <Listbox value={value} onChange={onChange}>
      <ListboxButton
        aria-label={`${name}: ${chosen}`}
        className="border-line hover:bg-wash max-w-56 truncate border-r px-2 py-1 last:border-r-0"
      >
        {chosen} <span aria-hidden="true">▾</span>
      </ListboxButton>
      <ListboxOptions
        anchor="bottom end"
        modal={false}
        className="border-line bg-sheet text-ink z-20 max-h-80 min-w-40 overflow-auto rounded-sm border py-1 text-[14px] [--anchor-gap:4px] focus:outline-none"
      >
        {options.map((option) => (
          <ListboxOption
            key={option.value}
            value={option.value}
            className="data-focus:bg-wash cursor-pointer px-3 py-1 data-selected:font-semibold"
          >
            {option.label}
          </ListboxOption>
        ))}
      </ListboxOptions>
    </Listbox>
  );
}
