// What tiles of the plate are called by, and what a lift changes of them.
import type { SetDetail, TileNames } from "../api/client";
import type { Keys, Kin } from "./layers";
import type { Part } from "./loading";

/** More lifts than this over a tile, and it is called by the whole plate: addresses stay short, and such tiles are small ones. */
const NAMED = 8;

/** A picture is coded in squares of so many pixels, each by itself. */
const CODED = 8;

type Reach = TileNames["patches"][number];

/** Those that reach a tile. */
function reaching(lifts: Reach[], tile: number, up: number, x: number, y: number): Reach[] {
  const side = tile * up;
  return lifts.filter(
    (l) => x * side <= l.right && (x + 1) * side >= l.left && y * side <= l.bottom && (y + 1) * side >= l.top,
  );
}

/** What a plate's tile is called: by what reaches it, so that its address stays while that does. */
export function tileKey(names: TileNames, plate: string, tile: number, up: number, x: number, y: number): string {
  const over = reaching(names.patches, tile, up, x, y);
  return over.length > NAMED ? plate : [names.bare, ...over.map((l) => l.name)].join("-");
}

/** The same for all tiles of a set's plate; `undefined` while only the whole plate has a name. */
export function plateKeys({ canvas, plate_key, tile_names: names }: SetDetail): Keys | undefined {
  return names && canvas && plate_key
    ? (level, x, y) => tileKey(names, plate_key, canvas.tile, 2 ** level, x, y)
    : undefined;
}

/** The part of a tile, in its pixels, in which two plates without the same lifts can differ; null when it is most of it, or they differ in more. */
export function changedPart(
  before: TileNames,
  now: TileNames,
  tile: number,
  up: number,
  x: number,
  y: number,
): Part | null {
  if (before.bare !== now.bare) return null;
  const missing = (from: Reach[], in_: Reach[]) => from.filter((l) => !in_.some((other) => other.name === l.name));
  const over = reaching(
    [...missing(before.patches, now.patches), ...missing(now.patches, before.patches)],
    tile,
    up,
    x,
    y,
  );
  if (!over.length) return null;
  const low = (edges: number[], from: number) =>
    Math.max(0, CODED * Math.floor((Math.min(...edges) / up - from * tile - 1) / CODED));
  const high = (edges: number[], from: number) =>
    Math.min(tile, CODED * Math.ceil((Math.max(...edges) / up - from * tile + 2) / CODED));
  const [left, top] = [
    low(
      over.map((l) => l.left),
      x,
    ),
    low(
      over.map((l) => l.top),
      y,
    ),
  ];
  const [width, height] = [
    high(
      over.map((l) => l.right),
      x,
    ) - left,
    high(
      over.map((l) => l.bottom),
      y,
    ) - top,
  ];
  return width > 0 && height > 0 && 2 * width * height < tile * tile ? { x: left, y: top, width, height } : null;
}

/** The tiles of a plate that those of another are like but for what other lifts change. */
export function kinOf(before: SetDetail | null, now: SetDetail): Kin | undefined {
  const keys = before ? plateKeys(before) : undefined;
  const [was, names, tile] = [before?.tile_names, now.tile_names, now.canvas?.tile];
  return keys && was && names && tile
    ? { keys, differs: (level, x, y) => changedPart(was, names, tile, 2 ** level, x, y) }
    : undefined;
}
