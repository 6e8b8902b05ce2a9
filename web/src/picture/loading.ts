// Loads tiles straight into what the viewer draws from. Left to itself it decodes each while it draws, one after
// the other; here they are decoded beside the page's own work, and those known to be wanted before it asks.

/** Milliseconds for which a tile that was asked for ahead waits for the viewer. */
const WAITS = 3000;

interface Loading {
  tile: Promise<CanvasRenderingContext2D>;
  stop: () => void;
}

const ahead = new Map<string, Loading>();

async function fetched(address: string, signal: AbortSignal): Promise<CanvasRenderingContext2D> {
  const answer = await fetch(address, { signal, priority: "high" });
  if (!answer.ok) throw new Error(`${address}: ${answer.status}`);
  const picture = await createImageBitmap(await answer.blob());
  const canvas = document.createElement("canvas");
  canvas.width = picture.width;
  canvas.height = picture.height;
  const context = canvas.getContext("2d", { willReadFrequently: true });
  if (!context) throw new Error(`${address}: no canvas`);
  context.drawImage(picture, 0, 0);
  picture.close();
  return context;
}

function begin(address: string): Loading {
  const control = new AbortController();
  return { tile: fetched(address, control.signal), stop: () => control.abort() };
}

/** Begins to load tiles that the viewer will want; done when they are there, or the wait is over. */
export async function loadAhead(addresses: string[], wait: number): Promise<void> {
  const there = addresses.map((address) => {
    const loading = ahead.get(address) ?? begin(address);
    ahead.set(address, loading);
    setTimeout(() => ahead.delete(address), WAITS);
    return loading.tile;
  });
  // A tile that fails is told of when the viewer takes it.
  await Promise.race([Promise.allSettled(there), new Promise((over) => setTimeout(over, wait))]);
}

/** What the viewer asks of a tile: `finish` is called with the tile, or `fail`. */
export interface Job {
  src: string;
  userData: { stop?: () => void };
  finish: (data: CanvasRenderingContext2D, request: null, type: "context2d") => void;
  fail: (why: string, request: null) => void;
}

export function start(job: Job) {
  const { tile, stop } = ahead.get(job.src) ?? begin(job.src);
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
