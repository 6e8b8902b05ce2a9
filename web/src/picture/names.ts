// What frames and views are called on the screen.
import type { Frame, SetDetail } from "../api/client";
import { useView } from "../state/store";
import type { View } from "./views";

/** Whether a frame lies over the reference, by the alignment or by hand. */
export const isLaid = (f: Frame) => f.residual_px != null || f.by_hand;

/** Number of a frame on the screen: its place by clock time, from one. */
export const frameNumber = (set: SetDetail, id: number | null | undefined) =>
  set.frames.findIndex((f) => f.id === id) + 1;

export function viewTitle(set: SetDetail, view: View): string {
  switch (view.kind) {
    case "plate":
      return "Plate";
    case "agreement":
      return "Agreement: white where frames agree";
    case "bare":
      return "Nothing taken by hand";
    case "state":
      return `Then: ${useView.getState().states[view.seq]?.label ?? "an earlier state"}`;
    case "difference":
      return `Frame ${frameNumber(set, view.frame)} against the reference: grey where they fit`;
    case "frame":
      return `Frame ${frameNumber(set, view.frame)}, aligned`;
  }
}
