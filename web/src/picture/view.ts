// What is on the picture and how: shared by the picture, the look-through, the job sheet and the keys.
import { create } from "zustand";
import type { Proposal, Purpose } from "../api/client";
import type { Light } from "./light";

/** `plate`, `agreement`, `by-METHOD` without what was taken by hand, `frame-N` or `difference-N` with the frame's index, or `state-N` with a state of the history. */
export type ViewName = string;
export type Compare = "divide" | "through" | "turns" | "difference";
export type Surround = "grey" | "dim" | "bright";

interface Place {
  x: number;
  y: number;
}

interface ViewState {
  view: ViewName;
  /** The view right of the divider; null when there is none. */
  other: ViewName | null;
  /** Where the divider stands, as a share of the picture's width. */
  divider: number;
  /** The reference frame as shot is shown while a key or the button is held. */
  holding: boolean;
  flicking: boolean;
  surround: Surround;
  /** Screen pixels for each pixel of the plate. */
  zoom: number;
  /** The place under the pointer, in plate pixels. */
  pointer: Place | null;
  /** A place that stays in the look-through. */
  pinned: Place | null;
  byMethod: boolean;
  keysShown: boolean;
  /** All frames on the axis of time instead of the picture. */
  sheet: boolean;
  /** Identity of the frame that is large on the contact sheet. */
  large: number | null;
  /** How two views are compared: right of a divider, half transparent over the whole, in turns, or what differs. */
  compare: Compare;
  /** Where frames end, and where a shown frame's fit rests, over the picture. */
  reach: boolean;
  rests: boolean;
  /** What an area that is being drawn means; null when none is. */
  drawing: "ignore" | "fit" | "loop" | "brush" | "keep" | null;
  /** Radius of the brush on the screen, in its pixels. */
  brush: number;
  /** A loop drawn around a place, in plate pixels: what is taken from a frame or by a method. */
  loop: Place[] | null;
  /** Index of the frame that is shown at the open place while its crop is pointed at. */
  peek: number | null;
  /** Crops in order of how much they show of the plate, instead of time. */
  clearest: boolean;
  /** Index of the frame that a loop or stroke is taken from as soon as it is drawn: the one shown last meanwhile. */
  taking: number | null;
  /** What is drawn around or brushed over is given back. */
  giving: boolean;
  /** Frames that a place is taken from one after another, best first. */
  tries: { place: string; list: Proposal[]; at: number } | null;
  /** What the plate is for, and whether places where lifts can be seen are marked. */
  purpose: Purpose;
  marked: boolean;
  /** Keys of the states that are looked at, by their numbers, with what was done. */
  states: Record<number, { key: string; label: string; width: number; height: number }>;
  /** Place in the list of the kept area that is pointed at. */
  keep: number | null;
  /** The light that the picture is looked at in. */
  light: Light;
  /** The open lift is moved by the arrow keys. */
  moving: boolean;
  /** Place in the list of the lift that is open. */
  lift: number | null;
  /** Where few frames agree, hatched over the picture. */
  evidence: boolean;
  /** Index of the frame that is being laid by hand, and whether pairs are being named. */
  hand: number | null;
  pairing: boolean;
  /** Place in the list of the doubt that is open. */
  doubt: number | null;
  set: (part: Partial<ViewState>) => void;
}

export const useView = create<ViewState>((set) => ({
  view: "plate",
  other: null,
  divider: 0.5,
  holding: false,
  flicking: false,
  surround: "grey",
  zoom: 1,
  pointer: null,
  pinned: null,
  byMethod: false,
  keysShown: false,
  sheet: false,
  large: null,
  compare: "divide",
  reach: false,
  rests: false,
  drawing: null,
  brush: 24,
  loop: null,
  peek: null,
  clearest: false,
  taking: null,
  giving: false,
  tries: null,
  purpose: "screen",
  marked: false,
  states: {},
  keep: null,
  light: "plain",
  moving: false,
  lift: null,
  evidence: false,
  hand: null,
  pairing: false,
  doubt: null,
  set: (part) =>
    set((now) => {
      const { view, drawing, giving } = { ...now, ...part };
      const frame = part.view === undefined ? null : shownFrame(view);
      return frame !== null && !giving && (drawing === "loop" || drawing === "brush") ? { ...part, taking: frame } : part;
    }),
}));

/** Index of the frame that a view shows as it is. */
export const shownFrame = (view: ViewName): number | null => (view.startsWith("frame-") ? Number(view.slice(6)) : null);

export const startView: Partial<ViewState> = { view: "plate", other: null, divider: 0.5, holding: false, flicking: false, pointer: null, pinned: null, byMethod: false, sheet: false, large: null, compare: "divide", reach: false, rests: false, drawing: null, loop: null, peek: null, taking: null, giving: false, tries: null, states: {}, keep: null, moving: false, lift: null, evidence: false, hand: null, pairing: false, doubt: null };

/** Acts on the viewer itself, filled in by the picture while it is there. */
export const camera: Record<"whole" | "hundred", () => void> & { zoomBy: (factor: number) => void; panBy: (dx: number, dy: number) => void; show: (place: { x: number; y: number; width: number; height: number }) => void } = {
  whole: () => {},
  hundred: () => {},
  zoomBy: () => {},
  panBy: () => {},
  show: () => {},
};

/** The brush a step larger or smaller. */
export const resized = (brush: number, by: 1 | -1) => Math.round(Math.min(200, Math.max(3, brush * 1.15 ** by + by)));

/** A way of comparing, or the divider when it is in force already. */
export const toggled = (now: Compare, wanted: Compare): Compare => (now === wanted ? "divide" : wanted);

export const surrounds: Surround[] = ["grey", "dim", "bright"];
