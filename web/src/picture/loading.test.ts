import { beforeEach, expect, test, vi } from "vitest";
import { loadAhead, start, type Ahead, type Job } from "./loading";

/** A canvas that remembers what was drawn on it, each with its corner. */
class Canvas {
  width = 0;
  height = 0;
  over: unknown[] = [];
  getContext = () => ({
    canvas: this,
    drawImage: (picture: unknown, x: number, y: number) => this.over.push([picture, x, y]),
  });
}

const asked: string[] = [];
let fails = false;

beforeEach(() => {
  asked.length = 0;
  fails = false;
  vi.stubGlobal("document", { createElement: () => new Canvas() });
  vi.stubGlobal("fetch", (address: string) => {
    asked.push(address);
    return Promise.resolve({ ok: !fails, status: 409, blob: () => Promise.resolve(address) });
  });
  vi.stubGlobal("createImageBitmap", (of: string) => Promise.resolve({ of, width: 512, height: 512, close: () => {} }));
});

/** What the viewer is given for a tile: what it is drawn of, or why not. */
const taken = (src: string) =>
  new Promise<unknown[] | string>((done) =>
    start({
      src,
      userData: {},
      finish: (tile) => done((tile.canvas as unknown as Canvas).over),
      fail: done,
    } satisfies Job),
  );

const tileOf = () => new Canvas().getContext() as unknown as NonNullable<Ahead["like"]>["tile"];

test("a tile that was asked for ahead is not asked for again", async () => {
  await loadAhead([{ address: "/a" }], 1000);
  expect(await taken("/a")).toMatchObject([[{ of: "/a" }, 0, 0]]);
  expect(asked).toEqual(["/a"]);
  // It was the viewer's then, and is not kept.
  await taken("/a");
  expect(asked).toEqual(["/a", "/a"]);
});

test("of a tile like one that is there only the part is fetched, and drawn over that", async () => {
  const like = { tile: tileOf(), part: { x: 8, y: 16, width: 64, height: 32 } };
  await loadAhead([{ address: "/b", like }], 1000);
  expect(asked).toEqual(["/b?part=8,16,64,32"]);
  expect(await taken("/b")).toMatchObject([
    [like.tile.canvas, 0, 0],
    [{ of: "/b?part=8,16,64,32" }, 8, 16],
  ]);
  expect(like.tile.canvas).toMatchObject({ over: [] });
});

test("a tile that fails ahead is asked for whole, and one that fails then is told of", async () => {
  fails = true;
  await loadAhead([{ address: "/c", like: { tile: tileOf(), part: { x: 0, y: 0, width: 8, height: 8 } } }], 1000);
  expect(await taken("/c")).toContain("/c");
  fails = false;
  expect(await taken("/c")).toMatchObject([[{ of: "/c" }, 0, 0]]);
  expect(asked).toEqual(["/c?part=0,0,8,8", "/c", "/c"]);
});

test("what is late is not waited for, and still asked for once", async () => {
  let come = () => {};
  vi.stubGlobal(
    "createImageBitmap",
    () => new Promise((done) => (come = () => done({ of: "late", width: 1, height: 1, close: () => {} }))),
  );
  await loadAhead([{ address: "/d" }], 5);
  const tile = taken("/d");
  come();
  expect(await tile).toMatchObject([[{ of: "late" }, 0, 0]]);
  expect(asked).toEqual(["/d"]);
});
