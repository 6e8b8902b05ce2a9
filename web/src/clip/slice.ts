// Whether the clip is shown instead of the plate.

export const clipView: { fresh: { clip: boolean } } = { fresh: { clip: false } };
