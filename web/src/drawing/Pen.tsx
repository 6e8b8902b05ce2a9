// The frame of all that is drawn with the pointer over the picture: what is asked for, presses, moves, and where the pointer is.
import { useState, type PointerEvent, type ReactNode } from "react";
import type { Point } from "../api/client";
import type { PlaceAt } from "../picture/outline";

/** Where the pointer is. */
export interface At {
  /** In canvas pixels. */
  place: Point;
  /** In those of the page, from the picture's corner. */
  page: Point;
}

export function Pen({
  name,
  says,
  placeAt,
  press,
  move,
  end,
  wheel,
  children,
}: {
  name: string;
  /** What is asked for; how it is left is added. */
  says: string;
  placeAt: PlaceAt;
  press: (place: Point, e: PointerEvent) => void;
  /** Called while the pointer is down. */
  move: (place: Point, e: PointerEvent) => void;
  end: () => void;
  /** 1 for up, −1 for down; without it the wheel is the picture's. */
  wheel?: (way: 1 | -1) => void;
  children: (at: At | null) => ReactNode;
}) {
  const [at, setAt] = useState<At | null>(null);
  const [down, setDown] = useState(false);
  const placed = (e: PointerEvent): Point | null => {
    const place = placeAt(e.clientX, e.clientY, true);
    const box = e.currentTarget.getBoundingClientRect();
    setAt(place && { place, page: { x: e.clientX - box.left, y: e.clientY - box.top } });
    return place;
  };
  return (
    <div
      data-own
      data-testid={name}
      className="absolute inset-0 z-20 cursor-crosshair touch-none"
      onPointerDown={(e) => {
        e.stopPropagation();
        e.currentTarget.setPointerCapture(e.pointerId);
        const place = placed(e);
        if (!place) return;
        setDown(true);
        press(place, e);
      }}
      onPointerMove={(e) => {
        e.stopPropagation();
        const place = placed(e);
        if (down && place) move(place, e);
      }}
      onPointerUp={(e) => {
        e.stopPropagation();
        setDown(false);
        end();
      }}
      onPointerLeave={() => !down && setAt(null)}
      onWheel={(e) => {
        if (!wheel) return;
        e.stopPropagation();
        wheel(e.deltaY < 0 ? 1 : -1);
      }}
    >
      <div className="absolute top-2 left-1/2 -translate-x-1/2 bg-leaf px-3 py-1 text-sm">{says}; Esc leaves</div>
      {children(at)}
    </div>
  );
}

/** The brush where it is, and how far its border fades. */
export function Ring({ at, radius, soft = 0, size }: { at: Point; radius: number; soft?: number; size: number }) {
  const ring = { cx: at.x, cy: at.y, fill: "none" };
  return (
    <>
      <circle {...ring} r={radius} stroke="black" strokeWidth={2.4 * size} />
      <circle {...ring} r={radius} stroke="white" strokeWidth={1.2 * size} />
      {soft > 0.5 && <circle {...ring} r={radius + soft} stroke="white" strokeOpacity={0.7} strokeWidth={0.8 * size} />}
    </>
  );
}
