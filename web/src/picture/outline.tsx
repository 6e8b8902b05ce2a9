// What is drawn over the picture, in its own pixels: closed lines that are seen on any ground.
import type { Point } from "../api/client";

/** The part of the canvas that the window shows. */
export interface Bounds {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** Canvas pixel under a place of the page; null outside unless it may be anywhere. */
export type PlaceAt = (clientX: number, clientY: number, anywhere?: boolean) => Point | null;

export const path = (points: number[][]) =>
  points.map((p, k) => `${k ? "L" : "M"}${(p[0] ?? 0).toFixed(1)} ${(p[1] ?? 0).toFixed(1)}`).join("") + "Z";

export const pathOf = (points: Point[]) => path(points.map((p) => [p.x, p.y]));

export function Outline({ d, size, stroke, dashed }: { d: string; size: number; stroke: string; dashed?: boolean }) {
  return (
    <>
      <path d={d} fill="none" stroke="white" strokeWidth={3.2 * size} />
      <path
        d={d}
        fill="none"
        stroke={stroke}
        strokeWidth={1.8 * size}
        strokeDasharray={dashed ? `${6 * size} ${4 * size}` : undefined}
      />
    </>
  );
}
