// Keys while the clip is shown; the others are those of the plate.
import type { ClipState } from "../api/client";
import { useView } from "../state/store";
import { nextCrossing, useTime, type Showing } from "./time";

export function clipKeys(clip: ClipState): Record<string, () => void> {
  const { at, playing, showing, set: put } = useTime.getState();
  const go = (k: number) => put({ at: Math.min(clip.seconds.length - 1, Math.max(0, k)), playing: false });
  const crossing = (by: 1 | -1) => {
    const k = nextCrossing(clip.crossings, at, by);
    if (k != null) go(k);
  };
  const show = (what: Showing) => put({ showing: showing === what ? "clean" : what });
  return {
    " ": () => clip.laid && put({ playing: !playing }),
    "[": () => go(at - 1),
    "]": () => go(at + 1),
    ",": () => crossing(-1),
    ".": () => crossing(1),
    b: () => put({ holding: true }),
    d: () => show("divide"),
    y: () => show("difference"),
    p: () => useView.getState().set({ clip: false }),
    escape: () => (useTime.getState().mending ? put({ mending: null }) : put({ loop: null, showing: "clean" })),
  };
}
