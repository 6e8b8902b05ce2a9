// Lifts: the one that is open, areas that are kept, and frames that a place is taken from in turn.
import type { Proposal, Purpose } from "../api/client";

interface Fresh {
  /** Place in the list of the lift that is open. */
  patch: number | null;
  /** The open lift is moved by the arrow keys. */
  moving: boolean;
  /** Place in the list of the kept area that is pointed at. */
  keep: number | null;
  /** Frames that a place is taken from one after another, best first. */
  tries: { place: string; list: Proposal[]; at: number } | null;
}

interface Lasting {
  /** What the plate is for, and whether places where lifts can be seen are marked. */
  purpose: Purpose;
  marked: boolean;
}

export const patches: { fresh: Fresh; lasting: Lasting } = {
  fresh: { patch: null, moving: false, keep: null, tries: null },
  lasting: { purpose: "screen", marked: false },
};
