import { useState, type PointerEvent } from "react";

/** A stretch under the pointer: where the drag began and where it is, in the units of whoever drags. */
export interface Drag {
  from: number;
  to: number;
  /** Whether the pointer was let go: the stretch stays until it is confirmed or left. */
  done: boolean;
}

/** Selecting a stretch by dragging; one shorter than `least` was a click and selects nothing. */
export function useDrag(least: number) {
  const [drag, setDrag] = useState<Drag>();
  return {
    drag,
    begin(event: PointerEvent, at: number) {
      event.currentTarget.setPointerCapture(event.pointerId);
      setDrag({ from: at, to: at, done: false });
    },
    move(at: number) {
      if (drag && !drag.done) setDrag({ ...drag, to: at });
    },
    end() {
      if (drag && !drag.done) setDrag(Math.abs(drag.to - drag.from) < least ? undefined : { ...drag, done: true });
    },
    leave() {
      setDrag(undefined);
    },
  };
}
