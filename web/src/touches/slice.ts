// Touches: the one that is open, what an area would look like before it is laid, and what is copied by strokes.
import type { PatchTransform, Point, Touch, Variant } from "../api/client";
import { UNMOVED, type Quad } from "./geometry";

/** An area that is tried: the touch without its variant, and what it would look like. */
export interface Trying {
  touch: Touch;
  /** Its place in the list, when it is laid already. */
  at: number | null;
  /** Null while they are being made. */
  variants: Variant[] | null;
  hints: string[];
  /** How far they are, 0 to 1. */
  share: number;
}

/** What the copying brush takes, and how. */
export interface Copying {
  act: "copy" | "mend";
  shown: "plate" | "bare" | { frame: number };
  /** The source and where it goes, in canvas pixels; null until they are chosen. */
  from: Point | null;
  to: Point | null;
  /** How the source is turned, enlarged and mirrored. */
  move: PatchTransform;
  /** The plane that both lie in, in pixels of the reference. */
  plane: Quad | null;
  /** Over how many pixels the border fades. */
  soft: number;
  /** Strokes end at edges of the picture. */
  edges: boolean;
}

interface Fresh {
  /** Place in the list of the touch that is open. */
  touch: number | null;
  trying: Trying | null;
  /** The variant that is shown in its place. */
  variant: Variant | null;
  /** The variant of which a part is drawn. */
  part: number | null;
  copying: Copying;
  /** The plane that was drawn last, in pixels of the reference. */
  plane: Quad | null;
  /** Touches that can still be seen are asked for. */
  seen: boolean;
}

export const touches: { fresh: Fresh; lasting: Record<never, never> } = {
  fresh: {
    touch: null,
    trying: null,
    variant: null,
    part: null,
    copying: { act: "copy", shown: "plate", from: null, to: null, move: UNMOVED, plane: null, soft: 2, edges: false },
    plane: null,
    seen: false,
  },
  lasting: {},
};
