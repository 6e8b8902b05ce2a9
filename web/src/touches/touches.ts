// Copying, mending, evening out and making up areas of the plate: the acts behind the list of touches.
import { api, Refused, type PatchTransform, type Point, type SetDetail, type Touch, type Variant } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf } from "../patches/patches";
import { plate } from "../picture/views";
import { useView } from "../state/store";
import { tell, tellError } from "../ui/Notices";
import { backOf, UNMOVED, type Quad } from "./geometry";
import type { Trying } from "./slice";

export type { Copying } from "./slice";
export type Act = Touch["act"];
export type Kind = "copy" | "mend" | "even" | "flare" | "invent";

/** Variants that are offered at once. */
const OFFERED = 4;
/** As many as there may be. */
const MOST = 16;
/** Milliseconds between two looks at how far an invention is. */
const LOOKS = 300;

export const kindOf = (act: Act): Kind =>
  act === "flare" ? "flare" : "copy" in act ? "copy" : "mend" in act ? "mend" : "even" in act ? "even" : "invent";

/** What a touch is, for the list. */
export function touchWords({ act, parts }: Touch): string {
  if (act === "flare") return "Flare taken off";
  if ("copy" in act) return "Copy";
  if ("even" in act) return "Evened out";
  if ("invent" in act) {
    const others = [...new Set(parts?.map((p) => p.variant + 1))].filter((v) => v !== act.invent.variant + 1);
    return `Invented, variant ${[act.invent.variant + 1, ...others].join(" and ")}`;
  }
  const only = { both: "", lighten: ", only lighter", darken: ", only darker" }[act.mend.only];
  return `Mend${only}`;
}

/** Where what a touch shows comes from; null for one that has no source. */
export const moveOf = (act: Act) =>
  act === "flare" ? null : "copy" in act ? act.copy.transform : "mend" in act ? act.mend.transform : null;

export const middleOf = (outline: Point[]): Point => {
  const box = boxOf(outline);
  return { x: box.x + box.width / 2, y: box.y + box.height / 2 };
};

/** Where a touch's outline lies on its source. */
export const sourceOf = (outline: Point[], move: PatchTransform, plane?: Quad | null): Point[] =>
  outline.map(backOf(move, middleOf(outline), plane));

/** The act with its source moved otherwise. */
export function movedTo(act: Act, transform: PatchTransform): Act {
  if (act === "flare") return act;
  if ("copy" in act) return { copy: { transform } };
  if ("mend" in act) return { mend: { ...act.mend, transform } };
  return act;
}

/** Draws around what stands at the place that was pointed at. */
export async function drawAround(set: SetDetail, at: Point) {
  try {
    const { outline } = await api.thing(set.id, at.x, at.y);
    const canvas = set.canvas ?? { x: 0, y: 0 };
    if (!outline) return tell("Nothing stands out there by its look: draw around it instead (L).");
    const loop = outline.map((p) => ({ x: p.x - canvas.x, y: p.y - canvas.y }));
    useView.getState().set({ loop, pinned: null });
  } catch (e) {
    tellError(e);
  }
}

/** A touch over the open loop, as it begins. */
function begun(set: SetDetail, loop: Point[], act: Act): Touch {
  const { x, y } = set.canvas ?? { x: 0, y: 0 };
  const outline = loop.map((p) => ({ x: p.x + x, y: p.y + y }));
  return { on: set.reference ?? 0, outline, act, feather: 2, strength: 1, disabled: false };
}

const asked = "Draw a loop around what is to go first (L).";

const apart =
  "Lines that end at the area do not go on in any source: turn it, lay it in a plane, or draw the area up to where they end.";

/** Makes up what lies in the open loop, in variants. */
export async function inventLoop(set: SetDetail) {
  const { loop } = useView.getState();
  if (!loop) return tell(asked);
  await offer(set, { touch: begun(set, loop, { invent: { seed: 1, variant: 0 } }), at: null }, OFFERED);
}

/** Variants of a touch, and how far they are meanwhile. */
async function offer(set: SetDetail, { touch, at }: Pick<Trying, "touch" | "at">, variants: number) {
  const put = useView.getState().set;
  const begin: Trying = { touch, at, variants: null, hints: [], share: 0 };
  put({ trying: begin, variant: null });
  const current = () => {
    const { trying } = useView.getState();
    return trying?.touch === touch ? trying : null;
  };
  const looks = setInterval(() => {
    void api.tried(set.id).then(
      ({ share }) => {
        const now = current();
        if (now && !now.variants && share != null) put({ trying: { ...now, share } });
      },
      () => undefined,
    );
  }, LOOKS);
  try {
    const told = await api.tryTouch(set.id, { touch, at, variants });
    const now = current();
    if (now) put({ trying: { ...now, variants: told.variants, hints: told.hints } });
  } catch (e) {
    // What was left, or begun anew, is no error.
    if (current()) {
      put({ trying: null });
      tellError(e);
    } else if (!(e instanceof Refused)) tellError(e);
  } finally {
    clearInterval(looks);
  }
}

/** Leaves what is tried; what is being made stops. */
export function leave(set: SetDetail) {
  const { trying, set: put } = useView.getState();
  if (trying && !trying.variants) void api.stopTrying(set.id).catch(() => undefined);
  // What is laid is looked at once more: what is left of it is the next thing to do.
  put({ trying: null, variant: null, part: null, ...(trying?.at != null ? { seen: true } : {}) });
}

/** Four more variants of what is tried. */
export async function more(set: SetDetail) {
  const { trying } = useView.getState();
  if (!trying?.variants) return;
  const count = Math.min(MOST, trying.variants.length + OFFERED);
  if (count === trying.variants.length) return tell(`There are ${MOST} variants at most; draw the area otherwise.`);
  await offer(set, { ...trying, touch: { ...trying.touch } }, count);
}

/** The same area tried otherwise: wider, in a plane, without taking from a place. What is laid changes with it. */
export function tryOtherwise(open: OpenSet, set: SetDetail, part: Partial<Touch>, label: string) {
  const { trying } = useView.getState();
  if (!trying) return;
  const touch = { ...trying.touch, ...part };
  const { at } = trying;
  if (at != null) void open.change(label, (now) => ({ touches: now.touches.map((t, k) => (k === at ? touch : t)) }));
  void offer(set, { touch, at }, OFFERED);
}

/** An outline a little farther out all around. */
export function wider(outline: Point[]): Point[] {
  const box = boxOf(outline);
  const middle = middleOf(outline);
  const more = Math.max(8, 0.12 * Math.max(box.width, box.height));
  return outline.map((p) => {
    const long = Math.hypot(p.x - middle.x, p.y - middle.y) || 1;
    return { x: p.x + (more * (p.x - middle.x)) / long, y: p.y + (more * (p.y - middle.y)) / long };
  });
}

/** Opens the variants of an invention that is laid. */
export function reopen(set: SetDetail, at: number) {
  const touch = set.recipe.touches[at];
  if (!touch || touch.act === "flare" || !("invent" in touch.act)) return;
  const last = Math.max(touch.act.invent.variant, ...(touch.parts ?? []).map((p) => p.variant));
  void offer(set, { touch, at }, Math.max(OFFERED, last + 1));
}

/** Lays a variant of what is tried; the others stay at hand, also for parts of them. */
export function choose(open: OpenSet, set: SetDetail, chosen: Variant) {
  const { trying, set: put } = useView.getState();
  if (!trying || trying.touch.act === "flare" || !("invent" in trying.touch.act)) return;
  const act: Act = { invent: { ...trying.touch.act.invent, variant: chosen.variant } };
  const touch: Touch = { ...trying.touch, act, parts: [] };
  const at = trying.at ?? set.recipe.touches.length;
  put({ trying: { ...trying, touch, at }, loop: null, variant: null, touch: null });
  void open.change(trying.at == null ? "invent an area" : "another variant of an invention", (now) => ({
    touches: now.touches.length === at ? [...now.touches, touch] : now.touches.map((t, k) => (k === at ? touch : t)),
  }));
}

/** Takes a part of the area from the variant that was pointed at. */
export function partLoop(open: OpenSet, outline: Point[]) {
  const { trying, part, set: put } = useView.getState();
  if (!trying || trying.at == null || part == null) return;
  const { at } = trying;
  const touch: Touch = { ...trying.touch, parts: [...(trying.touch.parts ?? []), { outline, variant: part }] };
  put({ trying: { ...trying, touch }, part: null, variant: null });
  void open.change("a part from another variant", (now) => ({
    touches: now.touches.map((t, k) => (k === at ? touch : t)),
  }));
}

/** Has nothing taken from what was drawn around: for what is tried, or the touch that is open. */
export function barLoop(open: OpenSet, set: SetDetail, outline: Point[]) {
  const { trying, touch: index } = useView.getState();
  const label = "take nothing from a place";
  if (trying) return tryOtherwise(open, set, { barred: [...(trying.touch.barred ?? []), outline], parts: [] }, label);
  if (index != null) changeTouch(open, index, (t) => ({ barred: [...(t.barred ?? []), outline] }), label);
}

/** The touch that is open over another area; its source stays where it was. */
export function reshapeTo(open: OpenSet, set: SetDetail, outline: Point[]) {
  const { touch: index } = useView.getState();
  if (index == null) return;
  changeTouch(open, index, () => ({ outline, on: set.reference ?? 0, parts: [] }), "draw a touch's area anew");
}

/** What becomes of a plane that was drawn: what is tried, copied or open lies in it. */
export function planeDrawn(open: OpenSet, set: SetDetail, plane: Quad) {
  const { trying, touch: index, copying, set: put } = useView.getState();
  put({ plane });
  if (trying) tryOtherwise(open, set, { plane, parts: [] }, "an area in a plane");
  else if (index != null) changeTouch(open, index, () => ({ plane }), "a touch in a plane");
  else put({ copying: { ...copying, plane, from: null, to: null }, drawing: "stroke" });
}

/** The plane that an area lies in, by the edges around it; where none is found, its lines are to be drawn. */
export async function findPlane(open: OpenSet, set: SetDetail, touch: Touch, at: number | null) {
  const put = useView.getState().set;
  try {
    const { corners } = await api.touchPlane(set.id, { touch, at, variants: 1 });
    if (corners?.length === 4) return planeDrawn(open, set, corners as Quad);
    tell("The edges around it run in no two ways: draw along two edges that run side by side in the world.");
    put({ drawing: "plane", view: plate, sheet: false, flicking: false });
  } catch (e) {
    tellError(e);
  }
}

export function changeTouch(open: OpenSet, at: number, part: (now: Touch) => Partial<Touch>, label: string) {
  void open.change(label, (now) => ({ touches: now.touches.map((t, k) => (k === at ? { ...t, ...part(t) } : t)) }));
}

/** Covers the open loop with what goes on best from its rim, as it is or in the tone of what is around. */
export async function coverLoop(open: OpenSet, set: SetDetail, kind: "copy" | "mend") {
  const { loop, set: put } = useView.getState();
  if (!loop) return tell(asked);
  const first: Act =
    kind === "copy" ? { copy: { transform: UNMOVED } } : { mend: { transform: UNMOVED, only: "both" } };
  const touch = begun(set, loop, first);
  try {
    const found = await api.touchSource(set.id, { touch, at: null, variants: 1 });
    await open.change(kind === "copy" ? "copy over an area" : "mend an area", (now) => ({
      touches: [...now.touches, { ...touch, act: movedTo(first, found.transform) }],
    }));
    if (!found.meets) tell(apart);
    put({ loop: null, touch: set.recipe.touches.length });
  } catch (e) {
    tellError(e);
  }
}

/** Another source for a touch than it has: the one that goes on best. */
export async function anotherSource(open: OpenSet, set: SetDetail, at: number) {
  const touch = set.recipe.touches[at];
  const move = touch && moveOf(touch.act);
  if (!touch || !move) return;
  try {
    const own = sourceOf(touch.outline, move, touch.plane as Quad | null);
    const wanted = { ...touch, barred: [...(touch.barred ?? []), own] };
    const found = await api.touchSource(set.id, { touch: wanted, at, variants: 1 });
    changeTouch(open, at, (t) => ({ act: movedTo(t.act, found.transform) }), "another source for a touch");
    if (!found.meets) tell(apart);
  } catch (e) {
    tellError(e);
  }
}

/** Takes off the light that a flare adds in the open loop; where there is none, it is said. */
export async function flareLoop(open: OpenSet, set: SetDetail) {
  const { loop, set: put } = useView.getState();
  if (!loop) return tell(asked);
  const touch = begun(set, loop, "flare");
  try {
    await api.tryTouch(set.id, { touch, at: null, variants: 1 });
    put({ loop: null, touch: set.recipe.touches.length });
    await open.change("take a flare off", (now) => ({ touches: [...now.touches, touch] }));
  } catch (e) {
    tellError(e);
  }
}

/** Makes up areas that no frame shows, each by its first variant. */
export async function fillMissing(open: OpenSet, set: SetDetail, outlines: Point[][]) {
  const made = outlines.map((outline): Touch => {
    const act: Act = { invent: { seed: 1, variant: 0 } };
    return { on: set.reference ?? 0, outline, act, feather: 2, strength: 1, disabled: false };
  });
  await open.change(made.length > 1 ? "fill what no frame shows" : "fill a place that no frame shows", (now) => ({
    touches: [...now.touches, ...made],
  }));
}

/** Evens out the open loop. */
export function evenLoop(open: OpenSet, set: SetDetail) {
  const { loop, set: put } = useView.getState();
  if (!loop) return tell(asked);
  const slow = Math.max(8, Math.round(boxOf(loop).width / 4));
  const touch = begun(set, loop, { even: { slow: Math.min(2000, slow) } });
  void open.change("even out an area", (now) => ({ touches: [...now.touches, touch] }));
  put({ loop: null, touch: set.recipe.touches.length });
}

/** Lays a stroke of the copying brush; `shown` is called once the picture has it. */
export async function layStroke(
  open: OpenSet,
  set: SetDetail,
  outline: Point[],
  transform: PatchTransform,
  shown: () => void,
) {
  const { act, shown: from, plane, soft, edges } = useView.getState().copying;
  const touch: Touch = {
    on: set.reference ?? 0,
    outline,
    act: act === "copy" ? { copy: { transform } } : { mend: { transform, only: "both" } },
    shown: from,
    plane,
    snap_to_edges: edges,
    feather: soft,
    strength: 1,
    disabled: false,
  };
  await open.change(
    act === "copy" ? "copy by a stroke" : "mend by a stroke",
    (now) => ({ touches: [...now.touches, touch] }),
    {
      shown,
    },
  );
  // Also when it could not be laid.
  shown();
}
