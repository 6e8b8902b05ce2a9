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
  const [at, setAt] = useState<Point | null>(null);
  const [page, setPage] = useState<Point>({ x: 0, y: 0 });
  const last = useRef<Dab | null>(null);
  const down = useRef(false);
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
  const add = (e: React.PointerEvent) => {
    const p = placeAt(e.clientX, e.clientY, true);
    if (p) setLoop((now) => [...now, { ...p, r: pressed(radius, e) }]);
  };
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
    down.current = false;
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
  return (
    <div
      data-own
      data-testid="drawing"
      className="absolute inset-0 z-20 cursor-crosshair touch-none"
      onPointerDown={(e) => {
        e.stopPropagation();
        e.currentTarget.setPointerCapture(e.pointerId);
        down.current = true;
        turn.current++;
        // From where the last stroke ended, straight to here.
        const from = brushing && e.shiftKey ? last.current : null;
        setLoop(from ? [from] : []);
        add(e);
      }}
      onPointerMove={(e) => {
        e.stopPropagation();
        setAt(placeAt(e.clientX, e.clientY, true));
        const box = e.currentTarget.getBoundingClientRect();
        setPage({ x: e.clientX - box.left, y: e.clientY - box.top });
        if (down.current) add(e);
      }}
      onPointerUp={(e) => {
        e.stopPropagation();
        last.current = loop.at(-1) ?? null;
        finish();
      }}
      onWheel={(e) => {
        if (!brushing) return;
        e.stopPropagation();
        put({ brush: resized(brush, e.deltaY < 0 ? 1 : -1) });
      }}
    >
      <div className="absolute top-2 left-1/2 -translate-x-1/2 bg-leaf px-3 py-1 text-sm">
        {
          {
            ignore: "Draw around what must not lead the alignment",
            fit: "Draw around what must fit",
            keep: "Draw around what nothing may change",
            loop: `Draw around ${what}`,
            part: "Draw around what is to show this variant",
            barred: "Draw around what nothing is to be taken from",
            reshape: "Draw the area anew",
            brush: `Brush over ${what}; wheel, + and − change the size; Shift click draws straight; Z magnifies`,
          }[drawing === "stroke" || drawing === "plane" || !drawing ? "loop" : drawing]
        }
        ; Esc leaves
      </div>
      <svg viewBox={box} preserveAspectRatio="none" className="h-full w-full">
        {loop.length > 1 && !brushing && <path d={pathOf(loop)} fill="none" stroke="white" strokeWidth={2.5 * size} />}
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
            <circle cx={at.x} cy={at.y} r={radius} fill="none" stroke="black" strokeWidth={2.4 * size} />
            <circle cx={at.x} cy={at.y} r={radius} fill="none" stroke="white" strokeWidth={1.2 * size} />
          </g>
        )}
      </svg>
      {magnified && at && <Magnified set={set} at={at} page={page} radius={brushing ? radius : 0} />}
    </div>
  );
}
