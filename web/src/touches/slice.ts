// Touches: the one that is open, and what an area would look like before it is laid.
import type { Touch, Variant } from "../api/client";

/** An area that is tried: the touch without its variant, and what it would look like. */
export interface Trying {
  touch: Touch;
  /** Its place in the list, when it is laid already. */
  at: number | null;
  /** Null while they are being made. */
  variants: Variant[] | null;
  hints: string[];
  /** Frames that show the place clear, best first. */
  frames: { frame: number; words: string }[];
}

interface Fresh {
  /** Place in the list of the touch that is open. */
  touch: number | null;
  trying: Trying | null;
  /** The variant that is shown in its place. */
  variant: Variant | null;
}

export const touches: { fresh: Fresh; lasting: Record<never, never> } = {
  fresh: { touch: null, trying: null, variant: null },
  lasting: {},
};
