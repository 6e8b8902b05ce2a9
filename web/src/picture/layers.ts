// Views as layers of one deep-zoom world: a new one is laid on top and the old one leaves when it is complete,
// so that nothing flashes and place and zoom are kept.
import OpenSeadragon from "openseadragon";
import type { SetDetail, Spot } from "../api/client";
import { abort, loadAhead, start, type Ahead, type Part } from "./loading";

export interface Grid {
  set: number;
  width: number;
  height: number;
  levels: number;
  tile: number;
}

/** By what key each tile is asked for. */
export type Keys = (level: number, x: number, y: number) => string;

/** What tiles that may be there already show the same but for a part: their keys, and the part by tile. */
export interface Kin {
  keys: Keys;
  differs: (level: number, x: number, y: number) => Part | null;
}

/** The grid of a set's plate. */
export const gridOf = ({ id, canvas }: SetDetail): Grid | null =>
  canvas ? { set: id, width: canvas.width, height: canvas.height, levels: canvas.levels, tile: canvas.tile } : null;

export const address = (grid: Grid, keys: Keys, view: string, { level, x, y }: Spot) =>
  `/api/sets/${grid.set}/tiles/${keys(level, x, y)}/${encodeURIComponent(view)}/${level}/${x}_${y}.jpg`;

export function source(grid: Grid, keys: Keys, view: string): OpenSeadragon.TileSource {
  const top = grid.levels - 1;
  return new OpenSeadragon.TileSource({
    width: grid.width,
    height: grid.height,
    tileSize: grid.tile,
    minLevel: 0,
    maxLevel: top,
    getTileUrl: (level: number, x: number, y: number) => address(grid, keys, view, { level: top - level, x, y }),
    downloadTileStart: start,
    downloadTileAbort: abort,
  } as OpenSeadragon.TileSourceOptions);
}

/** Milliseconds for which a picture waits for its tiles to come all; then they are drawn as they come. */
const TOGETHER = 150;

export class Slot {
  /** What it shows, on top of what it showed until the new one is complete. */
  private images: OpenSeadragon.TiledImage[] = [];
  private wanted = "";

  constructor(
    private readonly viewer: OpenSeadragon.Viewer,
    /** Called whenever the slot's pictures change. */
    private readonly changed: (image: OpenSeadragon.TiledImage) => void,
    private readonly complete: (name: string) => void,
  ) {}

  /**
   * Shows a view, which `key` tells from others; its tiles are asked for by `keys` when they have names of their own, and only in
   * part where one of the same view by `kin` is there. Gives whether there is anything to load.
   */
  show(grid: Grid | null, key: string, view: string, keys: Keys = () => key, kin?: Kin): boolean {
    const name = grid ? `${grid.set}/${key}/${view}` : "";
    if (name === this.wanted) return false;
    this.wanted = name;
    if (!grid) {
      this.drop(this.images.length);
      return false;
    }
    const drawn = this.spots;
    const there = (tile: string) => this.viewer.tileCache.getCacheRecord(tile);
    const wanted = drawn.flatMap((spot): Ahead[] => {
      const tile = address(grid, keys, view, spot);
      // What the viewer has from before it draws from that.
      if (there(tile)) return [];
      const part = kin?.differs(spot.level, spot.x, spot.y);
      const like = kin && part ? there(address(grid, kin.keys, view, spot)) : undefined;
      return [
        {
          address: tile,
          like: part && like?.type === "context2d" ? { tile: like.data as CanvasRenderingContext2D, part } : undefined,
        },
      ];
    });
    // Laid on top when all of it can be drawn at once: each time the viewer draws it draws everything.
    if (wanted.length)
      void loadAhead(wanted, TOGETHER).then(() => this.wanted === name && this.lay(grid, name, view, keys, drawn));
    else this.lay(grid, name, view, keys, drawn);
    return true;
  }

  private lay(grid: Grid, name: string, view: string, keys: Keys, drawn: Spot[]) {
    const old = this.image;
    this.viewer.addTiledImage({
      tileSource: source(grid, keys, view),
      index: old ? this.viewer.world.getIndexOfItem(old) + 1 : undefined,
      success: (event) => {
        const image = (event as unknown as { item: OpenSeadragon.TiledImage }).item;
        if (this.wanted !== name) {
          this.viewer.world.removeItem(image);
          return;
        }
        // A tile's address never changes its meaning: those that come back need not be decoded again.
        image.allowZombieCache(true);
        // While the old picture shows, nothing coarser than that is wanted beside the few tiles that are new.
        const cut = image as unknown as { savedCutOffLevel: number };
        const coarsest = cut.savedCutOffLevel;
        if (drawn.length) cut.savedCutOffLevel = Math.min(...drawn.map(({ level }) => grid.levels - 1 - level));
        this.images.push(image);
        this.changed(image);
        const finish = () => {
          cut.savedCutOffLevel = coarsest;
          this.drop(this.images.indexOf(image));
          if (this.wanted === name) this.complete(name);
        };
        const loaded = (e: { fullyLoaded?: boolean }) => {
          if (!e.fullyLoaded) return;
          image.removeHandler("fully-loaded-change", loaded);
          finish();
        };
        image.addHandler("fully-loaded-change", loaded);
        // Its tiles are loaded at once, not when the viewer draws next.
        image.update(true);
      },
    });
  }

  get image(): OpenSeadragon.TiledImage | null {
    return this.images.at(-1) ?? null;
  }

  /** Where the tiles are that it shows; level 0 is full size. */
  get spots(): Spot[] {
    const image = this.image as unknown as { source: OpenSeadragon.TileSource; lastDrawn: { tile: Spot }[] } | null;
    return image
      ? image.lastDrawn.map(({ tile: { level, x, y } }) => ({ level: image.source.maxLevel - level, x, y }))
      : [];
  }

  /** Takes off the lowest of its pictures. */
  private drop(count: number) {
    for (const image of this.images.splice(0, Math.max(0, count))) this.viewer.world.removeItem(image);
  }
}
