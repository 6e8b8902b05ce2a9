// Closed outlines: what lies within, and whether two have anything in common.
import type { Point } from "../api/client";

/** Whether a place lies within an outline, by how often a line from it crosses. */
export function inside(p: Point, outline: Point[]): boolean {
  let within = false;
  for (let i = 0, j = outline.length - 1; i < outline.length; j = i++) {
    const [a, b] = [outline[i], outline[j]] as [Point, Point];
    if (a.y > p.y !== b.y > p.y && p.x < ((b.x - a.x) * (p.y - a.y)) / (b.y - a.y) + a.x) within = !within;
  }
  return within;
}

/** Whether two outlines overlap. */
export function meet(a: Point[], b: Point[]): boolean {
  if (a.some((p) => inside(p, b)) || b.some((p) => inside(p, a))) return true;
  return sides(a).some(([p, q]) => sides(b).some(([r, s]) => crossed(p, q, r, s)));
}

const sides = (outline: Point[]) => outline.map((p, k) => [p, outline[(k + 1) % outline.length]] as const);

function crossed(p: Point, q: Point, r: Point, s: Point): boolean {
  const side = (a: Point, b: Point, c: Point) => Math.sign((b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x));
  return side(p, q, r) !== side(p, q, s) && side(r, s, p) !== side(r, s, q);
}
