// Where in the clip one is, and how it is looked at: apart from the rest of the page, which is not drawn anew with every frame.
import { create } from "zustand";

/** What is shown: with the patch, as shot, both beside a line, or what differs. */
export type Showing = "clean" | "shot" | "divide" | "difference";

interface Time {
  /** Number of the frame, from 0. */
  at: number;
  playing: boolean;
  showing: Showing;
  /** While the key for "before" is held. */
  holding: boolean;
  /** The frames that are played over and over. */
  loop: [number, number] | null;
  /** Where the dividing line is, as a share of the picture's width. */
  line: number;
  /** What is brushed: where the frame stays, or where the patch lies. */
  mending: "front" | "patch" | null;
  /** Over how many frames to each side a stroke is followed. */
  carried: number;
  /** How the picture lies: pixels of the screen a pixel of the clip, null for the whole; and its middle in shares. */
  zoom: number | null;
  middle: { x: number; y: number };
  set: (part: Partial<Omit<Time, "set">>) => void;
}

export const begin = {
  at: 0,
  playing: false,
  showing: "clean" as Showing,
  holding: false,
  loop: null,
  line: 0.5,
  mending: null,
  carried: 3,
  zoom: null,
  middle: { x: 0.5, y: 0.5 },
};

export const useTime = create<Time>((set) => ({ ...begin, set }));

/** A time as people write it, with the frame's share of a second. */
export function timeWords(seconds: number): string {
  const minutes = Math.floor(seconds / 60);
  return `${String(minutes).padStart(2, "0")}:${(seconds % 60).toFixed(2).padStart(5, "0")}`;
}

/** The frame that is shown at a time: the last that is not later. */
export function frameAt(seconds: number[], time: number): number {
  let low = 0;
  let high = seconds.length - 1;
  while (low < high) {
    const middle = Math.ceil((low + high) / 2);
    if ((seconds[middle] ?? 0) <= time + 1e-4) low = middle;
    else high = middle - 1;
  }
  return Math.max(0, low);
}

/** A time within a frame, so that rounding never shows the one before it. */
export function within(seconds: number[], at: number): number {
  const own = seconds[at] ?? 0;
  const next = seconds[at + 1] ?? own + 0.02;
  return own + (next - own) / 2;
}

/** The crossing before or after a frame in order of time, by its worst frame; around the end it begins anew. */
export function nextCrossing(crossings: { worst: number }[], at: number, by: 1 | -1): number | null {
  const all = crossings.map((c) => c.worst).sort((a, b) => a - b);
  if (!all.length) return null;
  const found = by > 0 ? all.find((k) => k > at) : all.filter((k) => k < at).pop();
  return found ?? (by > 0 ? all[0] : all[all.length - 1]) ?? null;
}
