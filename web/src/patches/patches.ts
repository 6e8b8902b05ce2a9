// Taking a place from a frame, or by another method: the acts behind loops, points and the list of lifts.
import { api, type Patch, type PatchInfo, type Point, type Proposal, type SetDetail } from "../api/client";
import type { OpenSet, Then } from "../api/useSet";
import { frameNumber } from "../picture/names";
import { useView } from "../state/store";
import { tell, tellError } from "../ui/Notices";
import { inside, meet } from "./outlines";
import { methodTitle } from "../ui/words";

export type Source = Patch["source"];

export const frameOf = (source: Source): number | null =>
  "frame" in source ? source.frame : "highlight_suppressed" in source ? source.highlight_suppressed : null;

export function sourceWords(set: SetDetail, source: Source): string {
  if ("method" in source) return methodTitle(source.method);
  if ("highlight_suppressed" in source)
    return `Frame ${frameNumber(set, source.highlight_suppressed)} without highlights`;
  return `Frame ${frameNumber(set, source.frame)}`;
}

/** How far a border fades, in pixels of a picture of this width: from a frame as the content asks for, wide for another method. */
export function softness(width: number, source: Source): number {
  return "frame" in source ? 0 : Math.max(2, Math.round(width / 160));
}

/** A lift as it begins: taken from a frame, its border is found and its tone is matched. */
export function begun(set: SetDetail, outline: Point[], source: Source): Patch {
  const single = "frame" in source;
  return {
    on: set.reference ?? 0,
    outline,
    source,
    feather: softness(set.canvas?.width ?? 0, source),
    snap_to_edges: false,
    optimal_seam: single,
    exclude_introduced: false,
    tone: single,
    grain: single,
    strength: 1,
    disabled: false,
  };
}

/** The recipe's lifts with this outline from another source: the same outline is drawn once. */
export function laid(lifts: Patch[], drawn: Patch): Patch[] {
  const drawnAlike = (l: Patch) => l.on === drawn.on && same(l.outline, drawn.outline);
  return lifts.some(drawnAlike)
    ? lifts.map((l) => (drawnAlike(l) ? { ...l, source: drawn.source, disabled: false } : l))
    : [...lifts, drawn];
}

/** Lays the loop from a source; what it gives is there once that is answered. */
export async function takeLoop(open: OpenSet, set: SetDetail, loop: Point[], source: Source, then?: Then) {
  const canvas = set.canvas;
  if (!canvas || set.reference == null) return;
  const outline = loop.map((p) => ({ x: p.x + canvas.x, y: p.y + canvas.y }));
  await lay(open, set, outline, source, then);
}

async function lay(open: OpenSet, set: SetDetail, outline: Point[], source: Source, then?: Then) {
  if (set.reference == null || !set.canvas) return;
  const drawn = begun(set, outline, source);
  const frame = frameOf(source);
  await open.change(
    frame == null ? `an area by ${sourceWords(set, source)}` : `take a place from frame ${frameNumber(set, frame)}`,
    { patches: laid(set.recipe.patches, drawn) },
    then,
  );
}

/** Takes what is open (a loop, or the thing under the kept place) from a frame. */
export async function takePlace(open: OpenSet, set: SetDetail, frame: number) {
  const { loop, pinned } = useView.getState();
  if (loop) return takeLoop(open, set, loop, { frame });
  if (!pinned) return;
  try {
    const { outline } = await api.extent(set.id, pinned.x, pinned.y, frame);
    if (outline) await lay(open, set, outline, { frame });
    else tell(`Frame ${frameNumber(set, frame)} shows the same as the plate here.`);
  } catch (e) {
    tellError(e);
  }
}

/** Takes the open place from the frame that most surely leaves it clear; asked again, from the next best instead. */
export async function nextBest(open: OpenSet, set: SetDetail) {
  const { loop, pinned, tries, set: put } = useView.getState();
  const canvas = set.canvas;
  if (!canvas || !(loop ?? pinned))
    return tell(
      "Click a place or draw around it first: it is then taken from the frame that most surely leaves it clear.",
    );
  const place = JSON.stringify([set.id, loop ?? pinned]);
  const lifts = set.recipe.patches;
  try {
    const going = tries?.place === place ? tries : null;
    const list = going?.list ?? (await worth(set, loop, pinned));
    const before = going?.list[going.at];
    const at = going ? (going.at + 1) % list.length : 0;
    const next = list[at];
    if (!next)
      return tell("No frame leaves this place clearer than the plate does; the number of one brings in what it shows.");
    // The one before it leaves; what lies at its place in the list stays there.
    const lift = begun(set, next.outline, { frame: next.frame });
    const k = before
      ? lifts.findIndex((l) => frameOf(l.source) === before.frame && same(l.outline, before.outline))
      : -1;
    void open.change(`take a place from frame ${frameNumber(set, next.frame)}`, {
      patches: k < 0 ? laid(lifts, lift) : lifts.map((l, i) => (i === k ? lift : l)),
    });
    put({ tries: { place, list, at } });
  } catch (e) {
    tellError(e);
  }
}

/** What was asked last of a place, and the answer. */
let asked: { place: string; answer: Promise<Proposal[]> } | null = null;

/** Frames that may leave a place clearer than the plate does, best first. Asked once for a place, also ahead of being wanted. */
export function worth(set: SetDetail, loop: Point[] | null, pinned: Point | null): Promise<Proposal[]> {
  const place = JSON.stringify([set.id, set.plate_key, loop ?? pinned]);
  if (asked?.place === place) return asked.answer;
  const answer = proposed(set, loop, pinned);
  asked = { place, answer };
  // Nothing that failed is kept.
  answer.catch(() => asked?.answer === answer && (asked = null));
  return answer;
}

async function proposed(set: SetDetail, loop: Point[] | null, pinned: Point | null) {
  const { x, y } = set.canvas ?? { x: 0, y: 0 };
  const moved = (p: Point) => ({ x: p.x + x, y: p.y + y });
  const at = pinned ?? loop?.[0];
  if (!at) return [];
  const all = await api.proposals(set.id, { at: moved(at), outline: loop?.map(moved) });
  // What would only bring something in leaves nothing clear.
  return all.filter((p) => p.told.differs && (p.told.takes > 0 || !p.told.brings.length));
}

const same = (a: Point[], b: Point[]) => a.length === b.length && a.every((p, k) => p.x === b[k]?.x && p.y === b[k]?.y);

/** Gives back what lies within a loop: whole lifts, and parts of others. The loop is in pixels of the reference. */
export function giveBack(open: OpenSet, set: SetDetail, loop: Point[]) {
  const lifts = set.recipe.patches;
  const own = lifts.map((l) => !l.disabled && l.on === set.reference && meet(l.outline, loop));
  if (!own.includes(true))
    return tell(
      lifts.some((l) => l.on !== set.reference)
        ? "Nothing that was taken on this reference frame lies here; the list gives back the rest."
        : "Nothing was taken here.",
    );
  const left = lifts.flatMap((l, k) =>
    !own[k]
      ? [l]
      : l.outline.every((p) => inside(p, loop))
        ? []
        : [{ ...l, exclusions: [...(l.exclusions ?? []), loop] }],
  );
  void open.change(left.length < lifts.length ? "give a place back" : "give a part back", { patches: left });
}

/** What would happen if the open loop, or the thing under the kept place, were taken from a frame; in words, with what it brings. */
export async function tryPlace(
  set: SetDetail,
  loop: Point[] | null,
  pinned: Point | null,
  frame: number,
  signal: AbortSignal,
): Promise<PatchInfo | null> {
  const canvas = set.canvas;
  if (!canvas) return null;
  const outline = loop
    ? loop.map((p) => ({ x: p.x + canvas.x, y: p.y + canvas.y }))
    : pinned && (await api.extent(set.id, pinned.x, pinned.y, frame)).outline;
  return outline ? api.tryPatch(set.id, begun(set, outline, { frame }), signal) : null;
}

/** Moves a lift to where what it shows lies best on what the plate shows. */
export async function fitPlace(set: SetDetail, lift: Patch, put: (place: NonNullable<Patch["transform"]>) => void) {
  try {
    const found = await api.placePatch(set.id, lift);
    const round = (v: number) => Math.round(100 * v) / 100;
    put({
      shift: [round(found.shift[0] ?? 0), round(found.shift[1] ?? 0)],
      turn: round(found.turn),
      scale: Math.round(1e4 * found.scale) / 1e4,
      mirror: found.mirror,
    });
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
