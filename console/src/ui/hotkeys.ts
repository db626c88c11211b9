import { useEffect, useRef } from "react";

/** Calls what belongs to a pressed key; keys typed into a field, and chords, are left alone. */
export function useHotkeys(keys: Record<string, () => void>) {
  const current = useRef(keys);
  current.current = keys;
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement | null;
      const types = target?.closest("input, textarea, select, [contenteditable]");
      if (types || event.ctrlKey || event.metaKey || event.altKey) return;
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
