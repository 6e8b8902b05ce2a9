// Where the touch that is open takes its pixels from: moved by its middle, turned and enlarged by the end of a rod.
import { useState } from "react";
import type { PatchTransform, Point, SetDetail, Touch } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf } from "../patches/patches";
import { path, type PlaceAt } from "../picture/outline";
import { movedBy, rodOf, type Quad } from "./geometry";
import { changeTouch, middleOf, movedTo, moveOf, sourceOf } from "./touches";

export function Source({
  open,
  set,
  touch,
  index,
  move,
  size,
  placeAt,
}: {
  open: OpenSet;
  set: SetDetail;
  touch: Touch;
  index: number;
  move: PatchTransform;
  size: number;
  placeAt: PlaceAt;
}) {
  /** As it is held at the moment. */
  const [held, setHeld] = useState<{ part: "middle" | "end"; move: PatchTransform } | null>(null);
  const { x: left = 0, y: top = 0 } = set.canvas ?? {};
  const plane = touch.plane as Quad | null;
  const now = held?.move ?? move;
  const box = boxOf(touch.outline);
  const middle = middleOf(touch.outline);
  // Long enough to be held beside a small area.
  const reach = Math.max(Math.hypot(box.width, box.height) / 2, 28 * size);
  const [at, end] = rodOf(now, middle, reach, plane).map((p) => ({ x: p.x - left, y: p.y - top })) as [Point, Point];
  const grip = (part: "middle" | "end") => ({
    className: "pointer-events-auto cursor-grab touch-none",
    onPointerDown: (e: React.PointerEvent<SVGElement>) => {
      e.stopPropagation();
      e.currentTarget.setPointerCapture(e.pointerId);
      setHeld({ part, move: now });
    },
    onPointerMove: (e: React.PointerEvent<SVGElement>) => {
      if (held?.part !== part) return;
      e.stopPropagation();
      const p = placeAt(e.clientX, e.clientY, true);
      if (!p) return;
      const to = movedBy(part, { x: p.x + left, y: p.y + top }, held.move, [middle, reach], plane);
      // Shift holds the size.
      setHeld({ part, move: e.shiftKey ? { ...to, scale: held.move.scale } : to });
    },
    onPointerUp: (e: React.PointerEvent<SVGElement>) => {
      if (held?.part !== part) return;
      e.stopPropagation();
      const label = part === "middle" ? "move the source of a touch" : "turn the source of a touch";
      changeTouch(open, index, (t) => (moveOf(t.act) ? { act: movedTo(t.act, held.move) } : {}), label);
      setHeld(null);
    },
    onPointerCancel: () => setHeld(null),
  });
  const dotted = `${2 * size} ${4 * size}`;
  return (
    <g data-testid="touch-source">
      <path
        d={path(sourceOf(touch.outline, now, plane).map((p) => [p.x - left, p.y - top]))}
        fill="none"
        stroke="white"
        strokeWidth={1.6 * size}
        strokeDasharray={dotted}
      />
      {[
        ["black", 2.6],
        ["white", 1.2],
      ].map(([stroke, width]) => (
        <path
          key={stroke}
          d={`M${at.x} ${at.y}L${end.x} ${end.y}`}
          stroke={String(stroke)}
          strokeWidth={Number(width) * size}
        />
      ))}
      <rect
        data-testid="source-middle"
        {...grip("middle")}
        x={at.x - 6 * size}
        y={at.y - 6 * size}
        width={12 * size}
        height={12 * size}
        transform={`rotate(45 ${at.x} ${at.y})`}
        fill="white"
        stroke="black"
        strokeWidth={1.2 * size}
      >
        <title>Drag to move the source</title>
      </rect>
      <path
        data-testid="source-end"
        {...grip("end")}
        d={`M${end.x} ${end.y - 7 * size}l${6.5 * size} ${11 * size}h${-13 * size}Z`}
        fill="white"
        stroke="black"
        strokeWidth={1.2 * size}
      >
        <title>Drag around to turn the source, in and out to change its size; Shift holds the size</title>
      </path>
      {held && (
        <text
          x={end.x + 14 * size}
          y={end.y}
          fontSize={13 * size}
          fill="white"
          stroke="black"
          strokeWidth={3 * size}
          paintOrder="stroke"
        >
          {held.part === "middle"
            ? `${(-(now.shift[0] ?? 0)).toFixed(0)}, ${(-(now.shift[1] ?? 0)).toFixed(0)} px`
            : `${now.turn.toFixed(1)}°, ${(100 * now.scale).toFixed(0)} %`}
        </text>
      )}
    </g>
  );
}
