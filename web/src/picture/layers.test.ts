import { expect, test, vi } from "vitest";
import type { Viewer } from "openseadragon";

vi.mock("openseadragon", () => ({ default: { TileSource: vi.fn() } }));
const { Slot } = await import("./layers");

type Handler = (event: { fullyLoaded: boolean }) => void;

/** A picture in the viewer's world, whose tiles come when the test says so. */
class Shown {
  handlers: Handler[] = [];
  lastDrawn = [];
  addHandler = (_: string, handler: Handler) => this.handlers.push(handler);
  removeHandler = (_: string, handler: Handler) => (this.handlers = this.handlers.filter((h) => h !== handler));
  allowZombieCache() {}
  update() {}
  load() {
    for (const handler of this.handlers) handler({ fullyLoaded: true });
  }
}

/** A slot over a viewer's world, in which what is added comes when `add` is called. */
function stage() {
  const world: Shown[] = [];
  const waiting: (() => Shown)[] = [];
  const complete: string[] = [];
  const viewer = {
    world: {
      getIndexOfItem: (i: Shown) => world.indexOf(i),
      removeItem: (i: Shown) => world.splice(world.indexOf(i), 1),
    },
    addTiledImage: ({ index = world.length, success }: { index?: number; success: (event: { item: Shown }) => void }) =>
      waiting.push(() => {
        const item = new Shown();
        world.splice(index, 0, item);
        success({ item });
        return item;
      }),
  };
  const slot = new Slot(
    viewer as unknown as Viewer,
    () => {},
    (name) => complete.push(name),
  );
  const grid = { set: 1, width: 100, height: 100, levels: 2, tile: 512 };
  return {
    world,
    complete,
    slot,
    show: (key: string | null) => slot.show(key ? grid : null, key ?? "", "plate"),
    add: () => waiting.shift()?.() as Shown,
  };
}

test("what was shown stays until the new picture is complete", () => {
  const { world, complete, show, add } = stage();
  show("a");
  const a = add();
  a.load();
  show("b");
  const b = add();
  expect(world).toEqual([a, b]);
  b.load();
  expect(world).toEqual([b]);
  expect(complete).toEqual(["1/a/plate", "1/b/plate"]);
});

test("a picture that is replaced before it is complete leaves nothing behind", () => {
  const { world, complete, slot, show, add } = stage();
  show("a");
  const a = add();
  a.load();
  show("b");
  const b = add();
  show("c");
  const c = add();
  expect(world).toEqual([a, b, c]);
  c.load();
  expect(world).toEqual([c]);
  b.load();
  expect(complete).toEqual(["1/a/plate", "1/c/plate"]);
  expect(slot.image).toBe(c);

  // One that is not wanted any more when it comes is not shown at all.
  show("d");
  show("c");
  add();
  expect(world).toEqual([c]);
  const again = add();
  again.load();
  expect(world).toEqual([again]);
  show(null);
  expect(world).toEqual([]);
});
