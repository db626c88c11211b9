import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, createContext, useContext, useEffect, useRef, useState } from "react";

type Live = { held: boolean; waiting: number; staleSince: Date | null; toggle: () => void };

const Context = createContext<Live>({ held: false, waiting: 0, staleSince: null, toggle: () => undefined });

export const useLive = () => useContext(Context);

/** The shortest time between two readings of a page, in milliseconds. */
const READ_EVERY = 1_500;
/** How long to wait before the stream is opened again that a browser has given up, in milliseconds: doubled each time. */
const OPEN_AGAIN = { first: 1_000, longest: 30_000 };
/** What follows new data; what a person chose stays as it is. */
const FOLLOWS = new Set(["errors", "error", "timeline", "services", "chosen"]);

/** Pages follow what is committed; held, they stand still and count what waits. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [held, setHeld] = useState(false);
  const [waiting, setWaiting] = useState(0);
  const [staleSince, setStaleSince] = useState<Date | null>(null);
  const isHeld = useRef(held);
  isHeld.current = held;
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined;
    const read = () => {
      timer = undefined;
      void queries.invalidateQueries({ predicate: (query) => FOLLOWS.has(String(query.queryKey[0])) });
    };
    let events: EventSource | undefined;
    let again: ReturnType<typeof setTimeout> | undefined;
    let wait = OPEN_AGAIN.first;
    const open = () => {
      events = new EventSource("/api/v1/live");
      events.onopen = () => {
        setStaleSince(null);
        if (wait > OPEN_AGAIN.first && !isHeld.current) read();
        wait = OPEN_AGAIN.first;
      };
      events.onerror = () => {
        setStaleSince((since) => since ?? new Date());
        // An answer other than 200 (a proxy's 502, a restart) ends the stream for good: the browser does not try again.
        if (events?.readyState !== EventSource.CLOSED) return;
        events = undefined;
        clearTimeout(again);
        again = setTimeout(() => document.visibilityState === "visible" && !events && open(), wait);
        wait = Math.min(wait * 2, OPEN_AGAIN.longest);
      };
      events.addEventListener("committed", (event) => {
        setStaleSince(null);
        const { reports } = JSON.parse((event as MessageEvent<string>).data) as { reports: number };
        if (isHeld.current) setWaiting((n) => n + reports);
        else timer ??= setTimeout(read, READ_EVERY);
      });
    };
    const close = () => {
      events?.close();
      events = undefined;
    };
    // A browser keeps six connections to a host at most: a tab that nobody looks at, or a page kept for going back, must not
    // hold one. Seen again, it reads what it missed.
    const follow = () => {
      if (document.visibilityState === "hidden") close();
      else if (!events) {
        open();
        if (!isHeld.current) read();
      }
    };
    open();
    document.addEventListener("visibilitychange", follow);
    window.addEventListener("pagehide", close);
    window.addEventListener("pageshow", follow);
    return () => {
      document.removeEventListener("visibilitychange", follow);
      window.removeEventListener("pagehide", close);
      window.removeEventListener("pageshow", follow);
      close();
      clearTimeout(timer);
      clearTimeout(again);
    };
  }, [queries]);
  const toggle = () => {
    if (held) void queries.invalidateQueries({ predicate: (query) => FOLLOWS.has(String(query.queryKey[0])) });
    setHeld(!held);
    setWaiting(0);
  };
  return <Context.Provider value={{ held, waiting, staleSince, toggle }}>{children}</Context.Provider>;
}
