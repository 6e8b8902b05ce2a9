// What can be on the picture. A view is a value; only here is it turned into the words of an address or of a list, and back.
import type { SetDetail } from "../api/client";

export type View =
  /** The clean picture. */
  | { kind: "plate" }
  /** The same as its method has it, without what was taken by hand. */
  | { kind: "bare" }
  /** Where frames agree. */
  | { kind: "agreement" }
  /** A frame laid over the reference, by its identity. */
  | { kind: "frame"; frame: number }
  /** How it differs from the reference. */
  | { kind: "difference"; frame: number }
  /** The plate in a state of the history. */
  | { kind: "state"; seq: number };

export const plate: View = { kind: "plate" };
export const bare: View = { kind: "bare" };
export const agreement: View = { kind: "agreement" };
export const frameView = (frame: number): View => ({ kind: "frame", frame });
export const difference = (frame: number): View => ({ kind: "difference", frame });
export const stateView = (seq: number): View => ({ kind: "state", seq });

/** A view in one word, for lists of choices and for being compared. */
export function wordOf(view: View): string {
  switch (view.kind) {
    case "plate":
    case "bare":
    case "agreement":
      return view.kind;
    case "frame":
    case "difference":
      return `${view.kind} ${view.frame}`;
    case "state":
      return `${view.kind} ${view.seq}`;
  }
}

/** The view of a word; the plate when it is none. */
export function viewOf(word: string): View {
  const [kind, number] = word.split(" ");
  switch (kind) {
    case "bare":
    case "agreement":
      return { kind };
    case "frame":
    case "difference":
      return { kind, frame: Number(number) };
    case "state":
      return { kind, seq: Number(number) };
    default:
      return plate;
  }
}

/** Whether both are the same view. */
export const isSame = (a: View | null, b: View | null) => (a && b ? wordOf(a) === wordOf(b) : a === b);

/** What a view's tiles are asked for by; a state's plate is told from the set's by its key. */
export function tileName(view: View, set: SetDetail): string {
  switch (view.kind) {
    case "plate":
    case "state":
      return "plate";
    case "bare":
      return `by-${set.recipe.method}`;
    case "agreement":
      return "agreement";
    case "frame":
    case "difference":
      return `${view.kind}-${view.frame}`;
  }
}

/** The frame that a view shows as it is. */
export const shownFrame = (view: View): number | null => (view.kind === "frame" ? view.frame : null);

/** The frame that a view is about. */
export const frameOfView = (view: View): number | null =>
  view.kind === "frame" || view.kind === "difference" ? view.frame : null;
