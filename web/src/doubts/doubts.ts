// The finite list of places that the frames do not settle by themselves, and the acts on it.
import { useQuery } from "@tanstack/react-query";
import { api, type Doubt, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { camera } from "../picture/camera";
import { frameNumber } from "../picture/names";
import { plate } from "../picture/views";
import { useView } from "../state/store";

export function useDoubts(set: SetDetail | undefined): Doubt[] | undefined {
  return useQuery({
    queryKey: ["doubts", set?.id, set?.plate_key],
    queryFn: () => api.doubts(set?.id ?? 0),
    enabled: set?.plate_key != null && !set.draft,
    placeholderData: (before) => before,
  }).data;
}

/** Settles a doubt by a frame, by accepting (null), by keeping what is there from whatever is done by hand, or opens it again. */
export function settle(open: OpenSet, set: SetDetail, doubt: Doubt, how: number | null | "keep" | "reopen") {
  const same = (b: { x: number; y: number; width: number; height: number }) =>
    b.x === doubt.bbox.x && b.y === doubt.bbox.y && b.width === doubt.bbox.width && b.height === doubt.bbox.height;
  const others = set.recipe.settled.filter((s) => !same(s.bbox));
  const by = (frame: number | null) => ({ bbox: doubt.bbox, frame, open: false });
  if (how === "reopen")
    void open.change("open a doubt again", {
      settled: doubt.settled === "evanu" ? [...others, { ...by(null), open: true }] : others,
    });
  else if (how === "keep") {
    const { x, y, width, height } = doubt.bbox;
    const outline = [
      { x, y },
      { x: x + width, y },
      { x: x + width, y: y + height },
      { x, y: y + height },
    ];
    void open.change("keep what a doubt shows", {
      settled: [...others, by(null)],
      protected: [...set.recipe.protected, { on: set.reference ?? 0, outline }],
    });
  } else
    void open.change(how == null ? "accept what was proposed" : `take a place from frame ${frameNumber(set, how)}`, {
      settled: [...others, by(how)],
    });
}

/** Goes to a doubt: the picture flies there and the look-through keeps the place. */
export function goTo(doubts: Doubt[], index: number) {
  const doubt = doubts[index];
  if (!doubt) return;
  const { x, y, width, height } = doubt.place;
  useView
    .getState()
    .set({ doubt: index, pinned: { x: x + width / 2, y: y + height / 2 }, view: plate, sheet: false, flicking: false });
  camera.show(doubt.place);
}

export function nextOpen(doubts: Doubt[], from: number, step: 1 | -1): number {
  for (let k = 1; k <= doubts.length; k++) {
    const at = (from + step * k + doubts.length * k) % doubts.length;
    if (!doubts[at]?.settled) return at;
  }
  return from;
}
