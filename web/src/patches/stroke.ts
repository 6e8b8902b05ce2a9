// A brush stroke as a closed outline.
import type { Point } from "../api/client";

export interface Dab extends Point {
  /** Radius of the brush there. */
  r: number;
}

/** Corners of the half circle at each end. */
const CAP = 8;
/** Most places along a stroke. */
const MOST = 400;

/** The outline of what a round brush covers along a stroke; it may cross itself, and what it winds around is covered. */
export function outlineOf(stroke: Dab[]): Point[] {
  const kept = stroke.filter(
    (p, k) =>
      k === 0 ||
      k === stroke.length - 1 ||
      Math.hypot(p.x - (stroke[k - 1]?.x ?? p.x), p.y - (stroke[k - 1]?.y ?? p.y)) > 0,
  );
  const step = Math.max(1, Math.ceil(kept.length / MOST));
  const dabs = kept.filter((_, k) => k % step === 0 || k === kept.length - 1);
  const [first, last] = [dabs[0], dabs.at(-1)];
  if (!first || !last) return [];
  // Where the stroke goes at each place.
  const way = dabs.map((_, k) => {
    const [a, b] = [dabs[Math.max(0, k - 1)] ?? first, dabs[Math.min(dabs.length - 1, k + 1)] ?? last];
    return Math.atan2(b.y - a.y, b.x - a.x);
  });
  const at = (dab: Dab, angle: number) => ({ x: dab.x + dab.r * Math.cos(angle), y: dab.y + dab.r * Math.sin(angle) });
  const side = (turn: number) => dabs.map((dab, k) => at(dab, (way[k] ?? 0) + turn));
  const cap = (dab: Dab, from: number) =>
    Array.from({ length: CAP - 1 }, (_, k) => at(dab, from + (Math.PI * (k + 1)) / CAP));
  return [
    ...side(-Math.PI / 2),
    ...cap(last, (way.at(-1) ?? 0) - Math.PI / 2),
    ...side(Math.PI / 2).reverse(),
    ...cap(first, (way[0] ?? 0) + Math.PI / 2),
  ];
}

/** Radius under a pen's pressure; other pointers have none. */
export const pressed = (radius: number, pointer: { pointerType: string; pressure: number }) =>
  pointer.pointerType === "pen" ? radius * (0.3 + 0.7 * pointer.pressure) : radius;
