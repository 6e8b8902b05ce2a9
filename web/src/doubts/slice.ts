// Doubts: the one that is open.

interface Fresh {
  /** Its place in the list. */
  doubt: number | null;
}

export const doubts: { fresh: Fresh } = { fresh: { doubt: null } };
