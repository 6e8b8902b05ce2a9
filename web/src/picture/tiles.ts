// What tiles of the plate are called by.
import type { SetDetail, TileNames } from "../api/client";
import type { Keys } from "./layers";

/** More lifts than this over a tile, and it is called by the whole plate: addresses stay short, and such tiles are small ones. */
const NAMED = 8;

/** What a plate's tile is called: by what reaches it, so that its address stays while that does. */
export function tileKey(names: TileNames, plate: string, tile: number, up: number, x: number, y: number): string {
  const side = tile * up;
  const over = names.lifts.filter((l) => x * side <= l.right && (x + 1) * side >= l.left && y * side <= l.bottom && (y + 1) * side >= l.top);
  return over.length > NAMED ? plate : [names.bare, ...over.map((l) => l.name)].join("-");
}

/** The same for all tiles of a set's plate; `undefined` while only the whole plate has a name. */
export function plateKeys({ canvas, plate_key, tile_names: names }: SetDetail): Keys | undefined {
  return names && canvas && plate_key ? (level, x, y) => tileKey(names, plate_key, canvas.tile, 2 ** level, x, y) : undefined;
}
