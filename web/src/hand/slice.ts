// Alignment: what is shown of it, and the frame that is laid by hand.

interface Fresh {
  /** Where frames end, and where a shown frame's fit rests, over the picture. */
  reach: boolean;
  rests: boolean;
  /** The frame that is being laid by hand, and whether pairs are being named. */
  hand: number | null;
  pairing: boolean;
}

export const alignment: { fresh: Fresh } = { fresh: { reach: false, rests: false, hand: null, pairing: false } };
