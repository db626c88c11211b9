import { type RefObject, useLayoutEffect, useState } from "react";

/** The width an element has, so that text in a chart keeps its size on every screen. */
export function useWidth(element: RefObject<Element | null>): number {
  const [width, setWidth] = useState(1240);
  useLayoutEffect(() => {
    if (!element.current) return;
    const observer = new ResizeObserver(
      ([entry]) => entry && setWidth(Math.max(280, Math.round(entry.contentRect.width))),
    );
    observer.observe(element.current);
    return () => observer.disconnect();
  }, [element]);
  return width;
}
