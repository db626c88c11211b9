import { useEffect, useRef } from "react";

/** Where keys have a meaning of their own: fields, and what is open above the page. */
const ELSEWHERE =
  'input, textarea, select, [contenteditable], [role="menu"], [role="dialog"], [id^="headlessui-listbox-options"]';

const OFF = "outcrop.keys";

/** Whether single keys do something: a person may switch them off, for all pages in this browser. */
export const keysAreOn = () => localStorage.getItem(OFF) !== "off";

export const switchKeys = (on: boolean) => (on ? localStorage.removeItem(OFF) : localStorage.setItem(OFF, "off"));

/** Calls what belongs to a pressed key; keys meant for something else, and chords, are left alone. */
export function useHotkeys(keys: Record<string, () => void>) {
  const current = useRef(keys);
  useEffect(() => {
    current.current = keys;
  });
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement | null;
      if (target?.closest(ELSEWHERE) || event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented)
        return;
      // The list of keys opens in any case: there they are switched on again.
      if (!keysAreOn() && event.key !== "?") return;
      const act = current.current[event.key];
      if (act) {
        event.preventDefault();
        act();
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
}
