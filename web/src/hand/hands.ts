// Frames laid by hand, as the recipe holds them, and what their pairs leave.
import type { ManualAlignment, Point } from "../api/client";

/** The list with this entry in place of the frame's old one. */
export const withHand = (hands: ManualAlignment[], hand: ManualAlignment): ManualAlignment[] => [
  ...hands.filter((h) => h.frame !== hand.frame),
  hand,
];

/** What each pair is off by under the best similarity of all, in pixels; zeros where that is exact. */
export function left(pairs: { from: Point; to: Point }[]): number[] {
  const n = pairs.length;
  if (n < 3) return pairs.map(() => 0);
  const mean = (f: (p: { from: Point; to: Point }) => number) => pairs.reduce((s, p) => s + f(p), 0) / n;
  const [ax, ay, bx, by] = [mean((p) => p.from.x), mean((p) => p.from.y), mean((p) => p.to.x), mean((p) => p.to.y)];
  let [dot, cross, spread] = [0, 0, 0];
  for (const { from, to } of pairs) {
    const [x, y, u, v] = [from.x - ax, from.y - ay, to.x - bx, to.y - by];
    dot += x * u + y * v;
    cross += x * v - y * u;
    spread += x * x + y * y;
  }
  if (!spread) return pairs.map(() => 0);
  const [c, s] = [dot / spread, cross / spread];
  return pairs.map(({ from, to }) => {
    const [x, y] = [from.x - ax, from.y - ay];
    return Math.hypot(c * x - s * y - (to.x - bx), s * x + c * y - (to.y - by));
  });
}
