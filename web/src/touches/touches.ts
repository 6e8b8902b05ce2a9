// Copying, mending, evening out and making up areas of the plate: the acts behind the list of touches.
import { api, type PatchTransform, type Point, type SetDetail, type Touch, type Variant } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf, worth } from "../patches/patches";
import { frameNumber } from "../picture/names";
import { useView } from "../state/store";
import { tell, tellError } from "../ui/Notices";

export type Act = Touch["act"];
export type Kind = "copy" | "mend" | "even" | "invent";

const UNMOVED: PatchTransform = { shift: [0, 0], turn: 0, scale: 1, mirror: false };
/** Variants that are offered at once. */
const OFFERED = 4;
/** As many as there may be. */
const MOST = 16;

export const kindOf = (act: Act): Kind =>
  "copy" in act ? "copy" : "mend" in act ? "mend" : "even" in act ? "even" : "invent";

/** What a touch is, for the list. */
export function touchWords(act: Act): string {
  if ("copy" in act) return "Copy";
  if ("even" in act) return "Evened out";
  if ("invent" in act) return `Invented, variant ${act.invent.variant + 1}`;
  const only = { both: "", lighten: ", only lighter", darken: ", only darker" }[act.mend.only];
  return `Mend${only}`;
}

/** Where what a touch shows comes from; null for one that has no source. */
export const moveOf = (act: Act) => ("copy" in act ? act.copy.transform : "mend" in act ? act.mend.transform : null);

/** Where a touch's outline lies on its source. */
export function sourceOf(outline: Point[], move: NonNullable<ReturnType<typeof moveOf>>): Point[] {
  const box = boxOf(outline);
  const [x, y] = [box.x + box.width / 2, box.y + box.height / 2];
  const [a = 0, b = 0] = move.shift;
  const turn = (move.turn * Math.PI) / 180;
  const [s, c] = [Math.sin(turn) / move.scale, Math.cos(turn) / move.scale];
  return outline.map((p) => {
    const [u, v] = [p.x - x, p.y - y];
    const across = c * u + s * v;
    return { x: x - a + (move.mirror ? -across : across), y: y - b - s * u + c * v };
  });
}

/** The act with its source moved otherwise. */
export function movedTo(act: Act, transform: PatchTransform): Act {
  if ("copy" in act) return { copy: { transform } };
  if ("mend" in act) return { mend: { ...act.mend, transform } };
  return act;
}

/** A touch over the open loop, as it begins. */
function begun(set: SetDetail, loop: Point[], act: Act): Touch {
  const { x, y } = set.canvas ?? { x: 0, y: 0 };
  const outline = loop.map((p) => ({ x: p.x + x, y: p.y + y }));
  return { on: set.reference ?? 0, outline, act, feather: 2, strength: 1, disabled: false };
}

const asked = "Draw a loop around what is to go first (L).";

/** Makes up what lies in the open loop: first looks which frames show it clear, then offers variants. */
export async function inventLoop(set: SetDetail) {
  const { loop, set: put } = useView.getState();
  if (!loop) return tell(asked);
  const touch = begun(set, loop, { invent: { seed: 1, variant: 0 } });
  put({ trying: { touch, at: null, variants: null, hints: [], frames: [] }, variant: null });
  await offer(set, touch, null, OFFERED, loop);
}

/** Variants of a touch; frames that show the place clear come first. */
async function offer(set: SetDetail, touch: Touch, at: number | null, variants: number, loop: Point[] | null) {
  const put = useView.getState().set;
  const current = () => useView.getState().trying?.touch === touch;
  if (loop)
    worth(set, loop, null).then(
      (found) => {
        const trying = useView.getState().trying;
        // What also brings something in is no better ground than what is made up.
        const clear = found.filter((p) => p.told.takes > 0 && !p.told.brings.length);
        const frames = clear.map((p) => ({ frame: p.frame, words: `frame ${frameNumber(set, p.frame)}` }));
        if (trying && current()) put({ trying: { ...trying, frames } });
      },
      () => undefined,
    );
  try {
    const told = await api.tryTouch(set.id, { touch, at, variants });
    const trying = useView.getState().trying;
    if (trying && current()) put({ trying: { ...trying, variants: told.variants, hints: told.hints } });
  } catch (e) {
    if (current()) put({ trying: null });
    tellError(e);
  }
}

/** Four more variants of what is tried. */
export async function more(set: SetDetail) {
  const { trying, set: put } = useView.getState();
  if (!trying?.variants) return;
  const count = Math.min(MOST, trying.variants.length + OFFERED);
  if (count === trying.variants.length) return tell(`There are ${MOST} variants at most; draw the area otherwise.`);
  put({ trying: { ...trying, variants: null } });
  await offer(set, trying.touch, trying.at, count, null);
}

/** Opens the variants of an invention that is laid. */
export function reopen(set: SetDetail, at: number) {
  const touch = set.recipe.touches[at];
  if (!touch || !("invent" in touch.act)) return;
  useView.getState().set({ trying: { touch, at, variants: null, hints: [], frames: [] }, variant: null });
  void offer(set, touch, at, Math.max(OFFERED, touch.act.invent.variant + 1), null);
}

/** Lays a variant of what is tried. */
export function choose(open: OpenSet, chosen: Variant) {
  const { trying, set: put } = useView.getState();
  if (!trying || !("invent" in trying.touch.act)) return;
  const act: Act = { invent: { ...trying.touch.act.invent, variant: chosen.variant } };
  const touch = { ...trying.touch, act };
  const { at } = trying;
  put({ trying: null, loop: null, variant: null });
  void open.change(at == null ? "invent an area" : "another variant of an invention", (now) => ({
    touches: at == null ? [...now.touches, touch] : now.touches.map((t, k) => (k === at ? touch : t)),
  }));
}

/** Covers the open loop with what goes on best from its rim, as it is or in the tone around. */
export async function coverLoop(open: OpenSet, set: SetDetail, kind: "copy" | "mend") {
  const { loop, set: put } = useView.getState();
  if (!loop) return tell(asked);
  const first: Act =
    kind === "copy" ? { copy: { transform: UNMOVED } } : { mend: { transform: UNMOVED, only: "both" } };
  const touch = begun(set, loop, first);
  try {
    const found = await api.touchSource(set.id, { touch, at: null, variants: 1 });
    await open.change(kind === "copy" ? "copy over an area" : "mend an area", (now) => ({
      touches: [...now.touches, { ...touch, act: movedTo(first, found) }],
    }));
    put({ loop: null, touch: set.recipe.touches.length });
  } catch (e) {
    tellError(e);
  }
}

/** Evens out the open loop. */
export function evenLoop(open: OpenSet, set: SetDetail) {
  const { loop, set: put } = useView.getState();
  if (!loop) return tell(asked);
  const xs = loop.map((p) => p.x);
  const slow = Math.max(8, Math.round((Math.max(...xs) - Math.min(...xs)) / 4));
  const touch = begun(set, loop, { even: { slow: Math.min(2000, slow) } });
  void open.change("even out an area", (now) => ({ touches: [...now.touches, touch] }));
  put({ loop: null, touch: set.recipe.touches.length });
}
