import { type Readable, hold } from "./client";
import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, createContext, useContext, useEffect, useRef, useState } from "react";

type Live = { held: boolean; waiting: number; staleSince: Date | null; toggle: () => void };

const Context = createContext<Live>({ held: false, waiting: 0, staleSince: null, toggle: () => undefined });

export const useLive = () => useContext(Context);

/** How often a page that no message tells of reads again: so often, in milliseconds, and never while it is held. */
export function useEvery(millis: number): number | false {
  return useLive().held ? false : millis;
}

/** When a message came last, in milliseconds since 1970: pages that read seldom look whether they need to. */
const news = { at: 0 };

/** Reads these paths again every so often, in milliseconds, where something came meanwhile; never while it is held. */
export function useFollowed(paths: readonly Readable[], every: number) {
  const { held } = useLive();
  const queries = useQueryClient();
  useEffect(() => {
    if (held) return;
    let read = Date.now();
    const timer = setInterval(() => {
      if (news.at <= read || document.visibilityState === "hidden") return;
      read = Date.now();
      const wanted = new Set<unknown>(paths);
      void queries.invalidateQueries({ predicate: ({ queryKey }) => wanted.has(queryKey[0]) });
    }, every);
    return () => clearInterval(timer);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the paths are written where it is called
  }, [held, queries, every]);
}

/** The shortest time between two readings of a page, in milliseconds. */
const READ_EVERY = 1_500;
/** How long to wait before the stream is opened again that a browser has given up, in milliseconds: doubled each time. */
const OPEN_AGAIN = { first: 1_000, longest: 30_000 };
/** What follows new data; what a person chose stays as it is. */
const FOLLOWS = new Set<unknown>([
  "/api/v1/errors",
  "/api/v1/errors/{ref}",
  "/api/v1/errors/{ref}/timeline",
  "/api/v1/errors/{ref}/choose",
  "/api/v1/errors/{ref}/handling",
  "/api/v1/services",
  "/api/v1/traffic",
] satisfies Readable[]);

/** What a message says: how many failures were reported, by which services. */
type News = { reports: number; services: string[] };
/** As many names as a message holds at most: there may be more. */
const MOST_SERVICES = 25;

/** Whether what is kept under a key may be another after these services sent something; `null`: any may have. */
export function follows(key: readonly unknown[], services: ReadonlySet<string> | null): boolean {
  if (!FOLLOWS.has(key[0])) return false;
  const asked = key[1] as { params?: { query?: { service?: string } } } | undefined;
  const service = asked?.params?.query?.service;
  return services === null || service === undefined || services.has(service);
}

/** Pages follow what is committed; held, they stand still and count what waits. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [held, setHeld] = useState(false);
  const [waiting, setWaiting] = useState(0);
  const [staleSince, setStaleSince] = useState<Date | null>(null);
  const isHeld = useRef(held);
  useEffect(() => {
    isHeld.current = held;
  }, [held]);
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined;
    /** The services that sent since the last reading; `null` where that is not known. */
    let changed: Set<string> | null = new Set();
    const read = (services: ReadonlySet<string> | null) => {
      timer = undefined;
      changed = new Set();
      void queries.invalidateQueries({ predicate: ({ queryKey }) => follows(queryKey, services) });
    };
    let events: EventSource | undefined;
    let again: ReturnType<typeof setTimeout> | undefined;
    let wait = OPEN_AGAIN.first;
    let isBroken = false;
    const open = () => {
      events = new EventSource("/api/v1/live");
      events.onopen = () => {
        setStaleSince(null);
        // Whether the browser opened it again or this page: news between were missed.
        if (isBroken && !isHeld.current) read(null);
        isBroken = false;
        wait = OPEN_AGAIN.first;
      };
      events.onerror = () => {
        isBroken = true;
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
        news.at = Date.now();
        const { reports, services } = JSON.parse((event as MessageEvent<string>).data) as News;
        if (isHeld.current) {
          setWaiting((n) => n + reports);
          return;
        }
        changed = changed && services.length > 0 && services.length < MOST_SERVICES ? changed : null;
        for (const service of services) changed?.add(service);
        timer ??= setTimeout(() => read(changed), READ_EVERY);
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
        if (!isHeld.current) read(null);
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
    hold.isOn = !held;
    if (held) void queries.invalidateQueries({ type: "active" });
    setHeld(!held);
    setWaiting(0);
  };
  return <Context.Provider value={{ held, waiting, staleSince, toggle }}>{children}</Context.Provider>;
}
