// Acts on the viewer itself, filled in by the picture while it is there.

interface Camera {
  whole: () => void;
  hundred: () => void;
  zoomBy: (factor: number) => void;
  panBy: (dx: number, dy: number) => void;
  show: (place: { x: number; y: number; width: number; height: number }) => void;
}

export const camera: Camera = { whole: () => {}, hundred: () => {}, zoomBy: () => {}, panBy: () => {}, show: () => {} };
