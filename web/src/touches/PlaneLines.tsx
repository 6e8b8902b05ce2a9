// A plane of the world by two lines that run side by side there: along eaves, courses of stone, the edges of paving.
import { useState } from "react";
import type { Point, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { Pen } from "../drawing/Pen";
import type { PlaceAt } from "../picture/outline";
import { useView } from "../state/store";
import { tell } from "../ui/Notices";
import { isQuad, ofLines } from "./geometry";
import { planeDrawn } from "./touches";

type Line = [Point, Point];

export function PlaneLines({
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
  const { set: put } = useView();
  const [first, setFirst] = useState<Line | null>(null);
  const [line, setLine] = useState<Line | null>(null);
  const finish = () => {
    setLine(null);
    const canvas = set.canvas;
    if (!line || !canvas) return;
    if (Math.hypot(line[0].x - line[1].x, line[0].y - line[1].y) < 8 * size) return;
    if (!first) return setFirst(line);
    const corners = ofLines(first, line);
    setFirst(null);
    if (!isQuad(corners))
      return tell("These two lines cross, or are one: draw two that lie apart and run side by side in the world.");
    put({ drawing: null });
    planeDrawn(open, set, corners.map((p) => ({ x: p.x + canvas.x, y: p.y + canvas.y })) as typeof corners);
  };
  return (
    <Pen
      name="plane-lines"
      says={
        first
          ? "The second line, as far as the first in the world"
          : "Draw along two edges that run side by side in the world, such as two courses of stone; the first"
      }
      placeAt={placeAt}
      press={(place) => setLine([place, place])}
      move={(place) => setLine((now) => now && [now[0], place])}
      end={finish}
    >
      {() => (
        <svg viewBox={box} preserveAspectRatio="none" className="h-full w-full">
          {[first, line].map(
            (l, k) =>
              l && (
                <g key={k} fill="none">
                  <path d={`M${l[0].x} ${l[0].y}L${l[1].x} ${l[1].y}`} stroke="black" strokeWidth={3 * size} />
                  <path d={`M${l[0].x} ${l[0].y}L${l[1].x} ${l[1].y}`} stroke="white" strokeWidth={1.5 * size} />
                </g>
              ),
          )}
        </svg>
      )}
    </Pen>
  );
}
