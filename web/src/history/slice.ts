// States of the history that are looked at.

interface Fresh {
  /** Their keys by their numbers, with what was done. */
  states: Record<number, { key: string; label: string; width: number; height: number }>;
}

export const history: { fresh: Fresh } = { fresh: { states: {} } };
