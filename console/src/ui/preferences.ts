import { useSyncExternalStore } from "react";

/** How a person wants pages to be. */
export type Preferences = { times: "utc" | "local"; theme: "system" | "light" | "dark" };

const BUILT_IN: Preferences = { times: "utc", theme: "system" };

/** The browser keeps them too, so that a page is as wanted before the service has answered. */
const KEPT = "outcrop.preferences";

function kept(): Preferences {
  try {
    return { ...BUILT_IN, ...(JSON.parse(localStorage.getItem(KEPT) ?? "{}") as Partial<Preferences>) };
  } catch {
    return BUILT_IN;
  }
}

let now = typeof localStorage === "undefined" ? BUILT_IN : kept();
const listeners = new Set<() => void>();

/** What is preferred now. */
export const preferred = () => now;

/** Has all pages be so from now on. */
export function prefer(wanted: Partial<Preferences>) {
  const next = { ...BUILT_IN, ...wanted };
  if (next.times === now.times && next.theme === now.theme) return;
  now = next;
  localStorage.setItem(KEPT, JSON.stringify(next));
  paint();
  for (const listener of listeners) listener();
}

/** Gives the page its colours; the style sheet has those of the system unless it is told. */
export function paint() {
  const { theme } = now;
  if (theme === "system") delete document.documentElement.dataset.theme;
  else document.documentElement.dataset.theme = theme;
}

/** What is preferred; whoever shows it shows it again when it changes. */
export function usePreferences(): Preferences {
  return useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, preferred);
}
