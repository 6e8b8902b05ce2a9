// What is drawn with the pointer: a loop or a stroke becomes an area, or the place that is looked at.
import { useRef, useState } from "react";
import { flushSync } from "react-dom";
import type { Point, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf, giveBack, takeLoop } from "../patches/patches";
import { outlineOf, pressed, type Dab } from "../patches/stroke";
import { frameNumber } from "../picture/names";
import { pathOf, type PlaceAt } from "../picture/outline";
import { isSame, plate } from "../picture/views";
import { useView } from "../state/store";
import { barLoop, partLoop, reshapeTo } from "../touches/touches";
import { Magnified } from "./Magnified";
import { Pen, Ring } from "./Pen";
import { resized } from "./slice";

/** A loop drawn with the pointer becomes an area, or the place that is looked at. */
export function Drawing({
  open,
  set,
  box,
  size,
  placeAt,
}: {
  open: OpenSet;
  set: SetDetail;
  box: string;
  size: number;
  placeAt: PlaceAt;
}) {
  const { view, drawing, giving, taking, brush, zoom, magnified, set: put } = useView();
  const [loop, setLoop] = useState<Dab[]>([]);
  const last = useRef<Dab | null>(null);
  // Counts what was drawn, so that what is drawn next is not taken off with what is done.
  const turn = useRef(0);
  const brushing = drawing === "brush";
  // As large in the picture as on the screen.
  const radius = brush / (zoom / window.devicePixelRatio || 1);
  const what = giving
    ? "what to give back"
    : taking == null
      ? "the place"
      : `what to take from frame ${frameNumber(set, taking)}`;
  const add = (place: Point, e: React.PointerEvent) => setLoop((now) => [...now, { ...place, r: pressed(radius, e) }]);
  /** What becomes of an outline, in pixels of the reference. */
  const became = (outline: Point[], canvas: { x: number; y: number }, reference: number) => {
    const onCanvas = outline.map((p) => ({ x: p.x - canvas.x, y: p.y - canvas.y }));
    switch (drawing) {
      case "loop":
      case "brush": {
        if (giving) {
          giveBack(open, set, outline);
          put(brushing ? {} : { drawing: null, giving: false });
          return setLoop([]);
        }
        if (taking != null) {
          // The frame and what was drawn stay until the plate has it; the brush goes on until it is put away.
          const own = turn.current;
          // What was drawn goes in the moment in which the picture has it.
          const shown = () => turn.current === own && flushSync(() => setLoop([]));
          void takeLoop(open, set, onCanvas, { frame: taking }, { back: view, shown }).then(() => {
            // Also when it could not be laid.
            if (isSame(useView.getState().view, view)) put({ view: plate });
            shown();
          });
          return brushing || put({ drawing: null, taking: null });
        }
        const { x, y, width, height } = boxOf(onCanvas);
        put({ drawing: null, loop: onCanvas, pinned: { x: x + width / 2, y: y + height / 2 } });
        return setLoop([]);
      }
      case "keep":
        void open.change("keep an area", { protected: [...set.recipe.protected, { on: reference, outline }] });
        break;
      case "part":
        partLoop(open, outline);
        break;
      case "barred":
        barLoop(open, set, outline);
        break;
      case "reshape":
        reshapeTo(open, set, outline);
        break;
      case "ignore":
      case "fit": {
        const label =
          drawing === "ignore" ? "let an area not lead the alignment" : "let only an area lead the alignment";
        void open.change(label, { areas: [...set.recipe.areas, { on: reference, guide: drawing, outline }] });
      }
    }
    put({ drawing: null });
    setLoop([]);
  };
  const finish = () => {
    last.current = loop.at(-1) ?? null;
    const canvas = set.canvas;
    if (!canvas || set.reference == null || loop.length <= (brushing ? 0 : 5) || !drawing) return setLoop([]);
    const step = Math.max(1, Math.floor(loop.length / 300));
    const drawn = brushing ? outlineOf(loop) : loop.filter((_, k) => k % step === 0);
    became(
      drawn.map((p) => ({ x: p.x + canvas.x, y: p.y + canvas.y })),
      canvas,
      set.reference,
    );
  };
  const asks = {
    ignore: "Draw around what must not lead the alignment",
    fit: "Draw around what must fit",
    keep: "Draw around what nothing may change",
    loop: `Draw around ${what}`,
    part: "Draw around what is to show this variant",
    barred: "Draw around what nothing is to be taken from",
    reshape: "Draw the area anew",
    brush: `Brush over ${what}; wheel, + and − change the size; Shift click draws straight; Z magnifies`,
  };
  return (
    <Pen
      name="drawing"
      says={asks[drawing === "stroke" || drawing === "plane" || !drawing ? "loop" : drawing]}
      placeAt={placeAt}
      press={(place, e) => {
        turn.current++;
        // From where the last stroke ended, straight to here.
        const from = brushing && e.shiftKey ? last.current : null;
        setLoop(from ? [from] : []);
        add(place, e);
      }}
      move={add}
      end={finish}
      wheel={brushing ? (way) => put({ brush: resized(brush, way) }) : undefined}
    >
      {(at) => (
        <>
          <svg viewBox={box} preserveAspectRatio="none" className="h-full w-full">
            {loop.length > 1 && !brushing && (
              <path d={pathOf(loop)} fill="none" stroke="white" strokeWidth={2.5 * size} />
            )}
            {loop.length > 0 && brushing && (
              <path
                data-testid="stroke"
                d={pathOf(outlineOf(loop))}
                fill="white"
                fillOpacity={0.35}
                stroke="white"
                strokeWidth={1.2 * size}
              />
            )}
            {brushing && at && (
              <g data-testid="ring">
                <Ring at={at.place} radius={radius} size={size} />
              </g>
            )}
          </svg>
          {magnified && at && <Magnified set={set} at={at.place} page={at.page} radius={brushing ? radius : 0} />}
        </>
      )}
    </Pen>
  );
}
