import { type KeyboardEvent, type PointerEvent, type RefObject, useState } from "react";

type Options = {
  /** How many steps the chart has. */
  steps: number;
  frame: RefObject<SVGSVGElement | null>;
  /** The step at a share of the chart's width, 0 to 1. */
  stepAt: (share: number) => number;
  /** A part was chosen: its first step, and the one after its last. */
  onPart: (from: number, to: number) => void;
  /** A single step was chosen. */
  onStep?: ((step: number) => void) | undefined;
};

/** The step of a chart that is looked at, and the part that is being chosen: by pointer, or by arrows and Enter. */
export function useSteps({ steps, frame, stepAt, onPart, onStep }: Options) {
  const [over, setOver] = useState<number | null>(null);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const within = (step: number) => Math.min(Math.max(0, steps - 1), Math.max(0, step));
  const at = (event: PointerEvent) => {
    const box = frame.current?.getBoundingClientRect();
    return box && steps > 0 ? within(Math.floor(stepAt((event.clientX - box.left) / box.width))) : 0;
  };
  const leave = () => {
    setOver(null);
    setDrag(null);
  };
  const finish = () => {
    if (drag && drag[0] !== drag[1]) onPart(Math.min(...drag), Math.max(...drag) + 1);
    else if (drag) onStep?.(drag[0]);
    setDrag(null);
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const next = { ArrowLeft: (over ?? steps) - 1, ArrowRight: (over ?? -1) + 1, Home: 0, End: steps - 1 }[event.key];
    if (next !== undefined) {
      const to = within(next);
      setOver(to);
      setDrag(event.shiftKey ? [drag?.[0] ?? over ?? to, to] : null);
    } else if (event.key === "Enter" && over !== null) {
      if (drag) finish();
      else onStep?.(over);
    } else if (event.key === "Escape") leave();
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  return {
    over,
    /** The first and the last step of the part that is being chosen. */
    part: drag && ([Math.min(...drag), Math.max(...drag)] as const),
    /** For the element that has the focus: a slider over the steps. */
    slider: {
      role: "slider",
      tabIndex: 0,
      "aria-valuemin": 0,
      "aria-valuemax": Math.max(0, steps - 1),
      "aria-valuenow": over ?? 0,
      onKeyDown,
      onBlur: () => setOver(null),
    },
    /** For the drawing. */
    pointer: {
      onPointerDown: (event: PointerEvent<SVGSVGElement>) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        setDrag([at(event), at(event)]);
      },
      onPointerMove: (event: PointerEvent<SVGSVGElement>) => {
        setOver(at(event));
        if (drag && event.buttons > 0) setDrag([drag[0], at(event)]);
      },
      onPointerUp: finish,
      onPointerCancel: () => setDrag(null),
      onPointerLeave: leave,
    },
  };
}
