// What is being drawn on the picture: loops, strokes, areas.
import { shownFrame, type View } from "../picture/views";

interface Fresh {
  /** What an area that is being drawn means; null when none is. */
  drawing:
    | "ignore"
    | "fit"
    | "loop"
    | "brush"
    | "keep"
    /** A part of an invention, what nothing is taken from, an area anew; copying by strokes; the lines of a plane. */
    | "part"
    | "barred"
    | "reshape"
    | "stroke"
    | "plane"
    | null;
  /** A loop drawn around a place, in plate pixels: what is taken from a frame or by a method. */
  loop: { x: number; y: number }[] | null;
  /** The frame that a loop or stroke is taken from as soon as it is drawn: the one shown last meanwhile. */
  taking: number | null;
  /** What is drawn around or brushed over is given back. */
  giving: boolean;
}

interface Lasting {
  /** Radius of the brush on the screen, in its pixels. */
  brush: number;
  /** What lies under the pointer is shown larger beside it. */
  magnified: boolean;
}

export const drawing: { fresh: Fresh; lasting: Lasting } = {
  fresh: { drawing: null, loop: null, taking: null, giving: false },
  lasting: { brush: 24, magnified: false },
};

/** While one loops or brushes, a frame that is shown is the one to take from. */
export function followed(now: Fresh & { view: View }, part: Partial<Fresh & { view: View }>): Partial<Fresh> {
  const { view, drawing, giving } = { ...now, ...part };
  const frame = part.view === undefined ? null : shownFrame(view);
  return frame !== null && !giving && (drawing === "loop" || drawing === "brush") ? { taking: frame } : {};
}

/** The brush a step larger or smaller. */
export const resized = (brush: number, by: 1 | -1) => Math.round(Math.min(200, Math.max(3, brush * 1.15 ** by + by)));
