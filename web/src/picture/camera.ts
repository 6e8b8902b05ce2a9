// Acts on the viewer itself, filled in by the picture while it is there.

interface Camera {
  whole: () => void;
  hundred: () => void;
  /** A quarter of the full size, or the whole where that is smaller. */
  afar: () => void;
  zoomBy: (factor: number) => void;
  panBy: (dx: number, dy: number) => void;
  show: (place: { x: number; y: number; width: number; height: number }) => void;
}

export const camera: Camera = {
  whole: () => {},
  hundred: () => {},
  afar: () => {},
  zoomBy: () => {},
  panBy: () => {},
  show: () => {},
};
