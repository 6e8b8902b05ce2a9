// What is on the picture and how it is looked at.
import { plate, type View } from "./views";
import type { Light } from "./light";

export type Compare = "divide" | "through" | "turns" | "difference";
export type Surround = "grey" | "dim" | "bright";

interface Place {
  x: number;
  y: number;
}

interface Fresh {
  view: View;
  /** The view right of the divider; null when there is none. */
  other: View | null;
  /** Where the divider stands, as a share of the picture's width. */
  divider: number;
  /** How two views are compared: right of a divider, half transparent over the whole, in turns, or what differs. */
  compare: Compare;
  /** The reference frame as shot is shown while a key or the button is held. */
  holding: boolean;
  flicking: boolean;
  /** The place under the pointer, in plate pixels. */
  pointer: Place | null;
  /** A place that stays in the look-through. */
  pinned: Place | null;
  /** Where few frames agree, hatched over the picture. */
  evidence: boolean;
}

interface Lasting {
  surround: Surround;
  /** Screen pixels for each pixel of the plate. */
  zoom: number;
  /** The light that the picture is looked at in. */
  light: Light;
}

export const picture: { fresh: Fresh; lasting: Lasting } = {
  fresh: {
    view: plate,
    other: null,
    divider: 0.5,
    compare: "divide",
    holding: false,
    flicking: false,
    pointer: null,
    pinned: null,
    evidence: false,
  },
  lasting: { surround: "grey", zoom: 1, light: "plain" },
};

export const surrounds: Surround[] = ["grey", "dim", "bright"];

/** A way of comparing, or the divider when it is in force already. */
export const toggled = (now: Compare, wanted: Compare): Compare => (now === wanted ? "divide" : wanted);
