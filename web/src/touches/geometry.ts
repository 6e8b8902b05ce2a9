// Where touches take from: moves onto an area, and planes of the world, as the core has them.
import type { PatchTransform, Point } from "../api/client";

export type Quad = [Point, Point, Point, Point];
/** From places to places. */
export type Move = (p: Point) => Point;

export const UNMOVED: PatchTransform = { shift: [0, 0], turn: 0, scale: 1, mirror: false };

/** Turned, enlarged and mirrored about nothing, and back. */
function turning({ turn, scale, mirror }: PatchTransform): { there: Move; back: Move } {
  const angle = (turn * Math.PI) / 180;
  const [s, c, m] = [Math.sin(angle), Math.cos(angle), mirror ? -1 : 1];
  return {
    there: (p) => ({ x: scale * (m * c * p.x - s * p.y), y: scale * (m * s * p.x + c * p.y) }),
    back: (p) => ({ x: (m * (c * p.x + s * p.y)) / scale, y: (c * p.y - s * p.x) / scale }),
  };
}

const plus = (a: Point, b: Point): Point => ({ x: a.x + b.x, y: a.y + b.y });
const minus = (a: Point, b: Point): Point => ({ x: a.x - b.x, y: a.y - b.y });

/** A plane seen from the front, and back; about the middle nothing is moved. Null when it is not seen from one side. */
export function planeOf(corners: Quad, middle: Point): { front: Move; back: Move } | null {
  const square = toSquare(corners);
  if (!square) return null;
  const { flat, round } = square;
  const at = flat(middle);
  const step = 1e-2;
  const right = minus(flat({ x: middle.x + step, y: middle.y }), at);
  const down = minus(flat({ x: middle.x, y: middle.y + step }), at);
  const [a, b, c, d] = [right.x / step, down.x / step, right.y / step, down.y / step];
  const det = a * d - b * c;
  if (!Number.isFinite(det) || Math.abs(det) < 1e-15) return null;
  return {
    front: (p) => {
      const off = minus(flat(p), at);
      return { x: middle.x + (d * off.x - b * off.y) / det, y: middle.y + (a * off.y - c * off.x) / det };
    },
    back: (p) => {
      const off = minus(p, middle);
      return round({ x: at.x + a * off.x + b * off.y, y: at.y + c * off.x + d * off.y });
    },
  };
}

/** From the picture of a rectangle to the square from 0 to 1, and back. */
function toSquare([p, q, r, s]: Quad): { flat: Move; round: Move } | null {
  // Of the square to the four corners: Heckbert 1989.
  const [dx1, dy1, dx2, dy2] = [q.x - r.x, q.y - r.y, s.x - r.x, s.y - r.y];
  const [sx, sy] = [p.x - q.x + r.x - s.x, p.y - q.y + r.y - s.y];
  const det = dx1 * dy2 - dx2 * dy1;
  if (Math.abs(det) < 1e-9) return null;
  const g = (sx * dy2 - dx2 * sy) / det;
  const h = (dx1 * sy - sx * dy1) / det;
  const [a, b, c] = [q.x - p.x + g * q.x, s.x - p.x + h * s.x, p.x];
  const [d, e, f] = [q.y - p.y + g * q.y, s.y - p.y + h * s.y, p.y];
  const round: Move = ({ x, y }) => {
    const w = g * x + h * y + 1;
    return { x: (a * x + b * y + c) / w, y: (d * x + e * y + f) / w };
  };
  const flat: Move = ({ x, y }) => {
    const [i, j, k] = [e - f * h, c * h - b, b * f - c * e];
    const [l, m, n] = [f * g - d, a - c * g, c * d - a * f];
    const [t, u, v] = [d * h - e * g, b * g - a * h, a * e - b * d];
    const w = t * x + u * y + v;
    return { x: (i * x + j * y + k) / w, y: (l * x + m * y + n) / w };
  };
  return { flat, round };
}

/** Where a source lies: its middle, and the end of its rod, which leads as far to the right of an area's middle as `reach`. */
export function rodOf(move: PatchTransform, middle: Point, reach: number, plane?: Quad | null): [Point, Point] {
  const back = backOf(move, middle, plane);
  return [back(middle), back({ x: middle.x + reach, y: middle.y })];
}

/** The move that has a source's middle, or the end of its rod, at a place. */
export function movedBy(
  part: "middle" | "end",
  to: Point,
  move: PatchTransform,
  [middle, reach]: [Point, number],
  plane?: Quad | null,
): PatchTransform {
  const seen = plane && planeOf(plane, middle);
  const at = seen ? seen.front(to) : to;
  if (part === "middle") return { ...move, shift: [middle.x - at.x, middle.y - at.y] };
  const [a = 0, b = 0] = move.shift;
  const rod = { x: at.x - middle.x + a, y: at.y - middle.y + b };
  const long = Math.hypot(rod.x, rod.y) || 1;
  const turn = (Math.atan2(-rod.y, move.mirror ? -rod.x : rod.x) * 180) / Math.PI;
  const scale = Math.max(0.1, Math.min(10, reach / long));
  return { ...move, turn: Math.round(10 * turn) / 10, scale: Math.round(1000 * scale) / 1000 };
}

/** From an area's places to where they are taken from. */
export function backOf(move: PatchTransform, middle: Point, plane?: Quad | null): Move {
  const { back } = turning(move);
  const [a = 0, b = 0] = move.shift;
  const plain: Move = (p) => minus(plus(back(minus(p, middle)), middle), { x: a, y: b });
  const seen = plane && planeOf(plane, middle);
  return seen ? (p) => seen.back(plain(seen.front(p))) : plain;
}

/** The move onto an area with this middle that takes `to` from `from`, otherwise turned and enlarged as it is. */
export function ontoFrom(
  from: Point,
  to: Point,
  move: PatchTransform,
  middle: Point,
  plane?: Quad | null,
): PatchTransform {
  const seen = plane && planeOf(plane, middle);
  const [a, b] = seen ? [seen.front(from), seen.front(to)] : [from, to];
  const off = turning(move).back(minus(b, middle));
  return { ...move, shift: [middle.x - a.x + off.x, middle.y - a.y + off.y] };
}

/** The corners of a plane by two lines that run side by side in the world. */
export function ofLines([a, b]: [Point, Point], [c, d]: [Point, Point]): Quad {
  const same = (b.x - a.x) * (d.x - c.x) + (b.y - a.y) * (d.y - c.y) >= 0;
  return same ? [a, b, d, c] : [a, b, c, d];
}

/** Whether four corners turn the same way, as those of a plane's rectangle do. */
export function isQuad(corners: Quad): boolean {
  const bends = corners.map((p, k) => {
    const [q, r] = [corners[(k + 1) % 4] ?? p, corners[(k + 2) % 4] ?? p];
    return (q.x - p.x) * (r.y - q.y) - (q.y - p.y) * (r.x - q.x);
  });
  return bends.every((b) => b > 4) || bends.every((b) => b < -4);
}

/** Lines that divide a plane's rectangle into four by four. */
export function gridOn(corners: Quad): [Point, Point][] {
  const round = toSquare(corners)?.round;
  if (!round) return [];
  return [0, 0.25, 0.5, 0.75, 1].flatMap((t): [Point, Point][] => [
    [round({ x: t, y: 0 }), round({ x: t, y: 1 })],
    [round({ x: 0, y: t }), round({ x: 1, y: t })],
  ]);
}
