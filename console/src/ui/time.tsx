import { useSyncExternalStore } from "react";
import { ago, agoInWords, exact } from "./format";

/** How often ages are looked at again, in milliseconds: they are told in minutes. */
const TICK = 15_000;

let now = Date.now();

function onTick(tell: () => void) {
  const timer = setInterval(() => {
    now = Date.now();
    tell();
  }, TICK);
  return () => clearInterval(timer);
}

/** The time, as it was at the last tick: whoever shows an age with it shows it again as it grows. */
export const useNow = () => useSyncExternalStore(onTick, () => now);

type AgoProps = { at: string; isShort?: boolean; className?: string };

/** How long ago something was, growing as the page stands; the exact time on asking. */
export function Ago({ at, isShort = false, className }: AgoProps) {
  const time = useNow();
  return (
    <time dateTime={at} title={exact(at)} className={className}>
      {isShort ? ago(at, time) : agoInWords(at, time)}
    </time>
  );
}
