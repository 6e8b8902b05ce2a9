// Where frames lie on the axis of time, and what lies between them.
import type { Frame } from "../api/client";

/** Places along an axis from 0 to 1. Long pauses are shortened, so that a burst stays readable beside one. */
export function places(frames: Frame[]): number[] {
  if (frames.length < 2) return frames.map(() => 0.5);
  const gaps = frames.slice(1).map((f, k) => {
    const [a, b] = [frames[k]?.seconds, f.seconds];
    return a == null || b == null ? 1 : Math.max(0, b - a);
  });
  const sorted = [...gaps].sort((a, b) => a - b);
  const usual = Math.max(sorted[Math.floor(sorted.length / 2)] ?? 1, 0.2);
  // Up to three usual pauses as they are, beyond that by their logarithm.
  const width = (g: number) => (g <= 3 * usual ? g / usual : 3 + Math.log2(g / (3 * usual)));
  const widths = gaps.map((g) => Math.max(width(g), 0.35));
  const total = widths.reduce((a, b) => a + b, 0);
  let at = 0;
  return [0, ...widths.map((w) => (at += w) / total)];
}

/** A pause in words, when it is much longer than usual; else null. */
export function pause(frames: Frame[], k: number): string | null {
  const gap = (i: number) => {
    const [a, b] = [frames[i - 1]?.seconds, frames[i]?.seconds];
    return a == null || b == null ? null : b - a;
  };
  const own = gap(k);
  const all = frames
    .map((_, i) => (i ? gap(i) : null))
    .filter((g): g is number => g != null)
    .sort((a, b) => a - b);
  const usual = all[Math.floor(all.length / 2)] ?? 0;
  if (own == null || own < 10 || own < 4 * usual) return null;
  if (own < 90) return `${Math.round(own)} s later`;
  if (own < 5400) return `${Math.round(own / 60)} min later`;
  return own < 36 * 3600 ? `${Math.round(own / 3600)} h later` : `${Math.round(own / 86400)} days later`;
}

/** Frames in order of time, neighbours of one moment together. */
export function byMoment(frames: Frame[]): Frame[][] {
  const out: Frame[][] = [];
  for (const f of frames) {
    const last = out[out.length - 1];
    if (last && f.joined && last[0]?.joined && last[0].moment === f.moment) last.push(f);
    else out.push([f]);
  }
  return out;
}
