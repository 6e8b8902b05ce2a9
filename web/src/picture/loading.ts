// Loads tiles straight into what the viewer draws from. Left to itself it decodes each while it draws, one after
// the other; here they are decoded beside the page's own work, and those known to be wanted before it asks.

/** Milliseconds for which a tile that was asked for ahead waits for the viewer. */
const WAITS = 3000;

interface Loading {
  tile: Promise<CanvasRenderingContext2D>;
  stop: () => void;
}

const ahead = new Map<string, Loading>();

/** A part of a tile, in its pixels. */
export interface Part {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** A tile that will be wanted; where one that is like it but for a part is there, only that part is fetched. */
export interface Ahead {
  address: string;
  like?: { tile: CanvasRenderingContext2D; part: Part };
}

/** A picture on a canvas of its own. */
function drawn(picture: HTMLCanvasElement | ImageBitmap): CanvasRenderingContext2D {
  const canvas = document.createElement("canvas");
  canvas.width = picture.width;
  canvas.height = picture.height;
  const context = canvas.getContext("2d", { willReadFrequently: true });
  if (!context) throw new Error("no canvas to draw a tile on");
  context.drawImage(picture, 0, 0);
  return context;
}

async function fetched({ address, like }: Ahead, signal: AbortSignal): Promise<CanvasRenderingContext2D> {
  const part = like?.part;
  // Kept while the part is on its way, whatever becomes of the tile meanwhile.
  const below = like && drawn(like.tile.canvas);
  const answer = await fetch(part ? `${address}?part=${part.x},${part.y},${part.width},${part.height}` : address, {
    signal,
    priority: "high",
  });
  if (!answer.ok) throw new Error(`${address}: ${answer.status}`);
  const picture = await createImageBitmap(await answer.blob());
  if (part) below?.drawImage(picture, part.x, part.y);
  const context = below ?? drawn(picture);
  picture.close();
  return context;
}

function begin(tile: Ahead): Loading {
  const control = new AbortController();
  return { tile: fetched(tile, control.signal), stop: () => control.abort() };
}

/** Begins to load tiles that the viewer will want; done when they are there, or the wait is over. */
export async function loadAhead(tiles: Ahead[], wait: number): Promise<void> {
  const there = tiles.map((tile) => {
    const loading = ahead.get(tile.address) ?? begin(tile);
    ahead.set(tile.address, loading);
    setTimeout(() => ahead.delete(tile.address), WAITS);
    // One that fails is asked for anew by the viewer.
    return loading.tile.catch(() => ahead.delete(tile.address));
  });
  await Promise.race([Promise.all(there), new Promise((over) => setTimeout(over, wait))]);
}

/** What the viewer asks of a tile: `finish` is called with the tile, or `fail`. */
export interface Job {
  src: string;
  userData: { stop?: () => void };
  finish: (data: CanvasRenderingContext2D, request: null, type: "context2d") => void;
  fail: (why: string, request: null) => void;
}

export function start(job: Job) {
  const { tile, stop } = ahead.get(job.src) ?? begin({ address: job.src });
  ahead.delete(job.src);
  job.userData.stop = stop;
  tile.then(
    (context) => job.finish(context, null, "context2d"),
    (e: Error) => job.fail(e.message, null),
  );
}

export function abort(job: Job) {
  job.userData.stop?.();
}
