// All frames on the axis of time.

interface Fresh {
  /** They are shown instead of the picture. */
  sheet: boolean;
  /** The frame that is large among them. */
  large: number | null;
}

export const contactSheet: { fresh: Fresh } = { fresh: { sheet: false, large: null } };
