// Parts of a view drawn elsewhere than on the picture: its tiles, fetched once each.
import { address, type Grid, type Keys } from "./layers";

/** Tiles that are kept. */
const KEPT = 48;

const tiles = new Map<string, HTMLImageElement>();

/** A tile; `ready` is called when it comes later. */
function tile(url: string, ready: () => void): HTMLImageElement | null {
  const known = tiles.get(url);
  if (known) {
    // The last used stay.
    tiles.delete(url);
    tiles.set(url, known);
    if (known.complete) return known.naturalWidth ? known : null;
    known.addEventListener("load", ready, { once: true });
    return null;
  }
  const image = new Image();
  image.addEventListener("load", ready, { once: true });
  image.src = url;
  tiles.set(url, image);
  const oldest = tiles.keys().next().value;
  if (tiles.size > KEPT && oldest !== undefined) tiles.delete(oldest);
  return null;
}

/** A view whose parts are drawn. */
export interface Shown {
  grid: Grid;
  keys: Keys;
  view: string;
}

/** Draws a box of a view, in its own full-size pixels, as far as its tiles are there; `zoom` is how large a pixel becomes. */
export function drawPart(
  context: CanvasRenderingContext2D,
  { grid, keys, view }: Shown,
  box: { x: number; y: number; width: number; height: number },
  zoom: number,
  ready: () => void,
) {
  const level = Math.max(0, Math.min(grid.levels - 1, Math.floor(Math.log2(1 / Math.max(zoom, 1e-6)) + 1e-9)));
  const side = grid.tile * 2 ** level;
  const last = (v: number, long: number) => Math.min(Math.floor(v / side), Math.ceil(long / side) - 1);
  for (let y = Math.max(0, Math.floor(box.y / side)); y <= last(box.y + box.height, grid.height); y++)
    for (let x = Math.max(0, Math.floor(box.x / side)); x <= last(box.x + box.width, grid.width); x++) {
      const image = tile(address(grid, keys, view, { level, x, y }), ready);
      // A pixel's middle is its place.
      if (image)
        context.drawImage(
          image,
          x * side - 0.5,
          y * side - 0.5,
          image.naturalWidth * 2 ** level,
          image.naturalHeight * 2 ** level,
        );
    }
}
