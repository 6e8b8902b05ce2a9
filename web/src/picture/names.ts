// What frames and views are called on the screen.
import type { SetDetail } from "../api/client";

/** Number of a frame on the screen: its place by clock time, from one. */
export const frameNumber = (set: SetDetail, index: number | null | undefined) => set.frames.findIndex((f) => f.index === index) + 1;

export function viewTitle(set: SetDetail, view: string): string {
  if (view === "plate") return "Plate";
  if (view === "agreement") return "Agreement: white where frames agree";
  return `Frame ${frameNumber(set, Number(view.slice(6)))}, aligned`;
}
