// Taking a place from a frame, or by another method: the acts behind loops, points and the list of lifts.
import { api, type Lift, type Point, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { frameNumber } from "../picture/names";
import { useView } from "../picture/view";
import { tell, tellError } from "../ui/Notices";
import { methodTitle } from "../ui/words";

export type Source = Lift["source"];

export const frameOf = (source: Source): number | null => ("frame" in source ? source.frame : "calm" in source ? source.calm : null);

export function sourceWords(set: SetDetail, source: Source): string {
  if ("method" in source) return methodTitle(source.method);
  if ("calm" in source) return `Frame ${frameNumber(set, source.calm)} without highlights`;
  return `Frame ${frameNumber(set, source.frame)}`;
}

/** How far a border fades, in pixels of a picture of this width: hardly for a thing, wide for another method. */
export function softness(width: number, source: Source): number {
  return "frame" in source ? Math.max(1, Math.round(width / 800)) : Math.max(2, Math.round(width / 160));
}

/** The recipe's lifts with this outline from another source: the same outline is drawn once. */
export function laid(lifts: Lift[], drawn: Lift): Lift[] {
  const same = (l: Lift) => l.on === drawn.on && JSON.stringify(l.outline) === JSON.stringify(drawn.outline);
  return lifts.some(same) ? lifts.map((l) => (same(l) ? { ...l, source: drawn.source, off: false } : l)) : [...lifts, drawn];
}

/** Lays the loop from a source. */
export function takeLoop(open: OpenSet, set: SetDetail, loop: Point[], source: Source) {
  const canvas = set.canvas;
  if (!canvas || set.reference == null) return;
  const outline = loop.map((p) => ({ x: p.x + canvas.x, y: p.y + canvas.y }));
  lay(open, set, outline, source);
}

function lay(open: OpenSet, set: SetDetail, outline: Point[], source: Source) {
  if (set.reference == null || !set.canvas) return;
  const drawn: Lift = { on: set.reference, outline, source, soft: softness(set.canvas.width, source), follow: false, strength: 1, off: false };
  const frame = frameOf(source);
  open.change(frame == null ? `an area by ${sourceWords(set, source)}` : `take a place from frame ${frameNumber(set, frame)}`, { lifts: laid(set.recipe.lifts ?? [], drawn) });
}

/** Takes what is open (a loop, or the thing under the kept place) from a frame. */
export async function takePlace(open: OpenSet, set: SetDetail, frame: number) {
  const { loop, pinned } = useView.getState();
  if (loop) return takeLoop(open, set, loop, { frame });
  if (!pinned) return;
  try {
    const { outline } = await api.extent(set.id, pinned.x, pinned.y, frame);
    if (outline) lay(open, set, outline, { frame });
    else tell(`Frame ${frameNumber(set, frame)} shows the same as the plate here.`);
  } catch (e) {
    tellError(e);
  }
}

/** The box around an outline. */
export function boxOf(outline: Point[]) {
  const xs = outline.map((p) => p.x);
  const ys = outline.map((p) => p.y);
  const [x, y] = [Math.min(...xs), Math.min(...ys)];
  return { x, y, width: Math.max(...xs) - x, height: Math.max(...ys) - y };
}
