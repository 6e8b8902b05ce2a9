// What frames and views are called on the screen.
import type { Frame, SetDetail } from "../api/client";
import { useView } from "./view";

/** Whether a frame lies over the reference, by the alignment or by hand. */
export const isLaid = (f: Frame) => f.residual_px != null || f.by_hand;

/** Number of a frame on the screen: its place by clock time, from one. */
export const frameNumber = (set: SetDetail, index: number | null | undefined) => set.frames.findIndex((f) => f.index === index) + 1;

/** The view of the plate as its method has it, without what was taken by hand. */
export const bare = (set: SetDetail) => `by-${set.recipe.method}`;

export function viewTitle(set: SetDetail, view: string): string {
  if (view === "plate") return "Plate";
  if (view === "agreement") return "Agreement: white where frames agree";
  if (view === bare(set)) return "Nothing taken by hand";
  if (view.startsWith("state-")) return `Then: ${useView.getState().states[Number(view.slice(6))]?.label ?? "an earlier state"}`;
  if (view.startsWith("difference-")) return `Frame ${frameNumber(set, Number(view.slice(11)))} against the reference: grey where they fit`;
  return `Frame ${frameNumber(set, Number(view.slice(6)))}, aligned`;
}
