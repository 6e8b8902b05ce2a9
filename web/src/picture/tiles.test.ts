import { expect, test } from "vitest";
import { changedPart, tileKey } from "./tiles";

const box = (name: string, left: number, top: number, right: number, bottom: number) => ({
  name,
  left,
  top,
  right,
  bottom,
});

test("a tile is called by the lifts that reach it", () => {
  const names = {
    bare: "plate",
    patches: [box("a", 100, 100, 200, 200), box("b", 600, 10, 700, 90), box("c", -8, -8, 512, 20)],
  };
  const at = (up: number, x: number, y: number) => tileKey(names, "whole", 512, up, x, y);
  expect(at(1, 0, 0)).toBe("plate-a-c");
  // Touching counts.
  expect(at(1, 1, 0)).toBe("plate-b-c");
  expect(at(1, 1, 1)).toBe("plate");
  expect(at(2, 0, 0)).toBe("plate-a-b-c");
});

test("one that many reach is called by the whole plate", () => {
  const lifts = Array.from({ length: 9 }, (_, k) => box(String(k), 0, 0, 10, 10));
  expect(tileKey({ bare: "plate", patches: lifts }, "whole", 512, 1, 0, 0)).toBe("whole");
  expect(tileKey({ bare: "plate", patches: lifts.slice(1) }, "whole", 512, 1, 0, 0)).toBe("plate-1-2-3-4-5-6-7-8");
});

test("what a lift changes of a tile is asked for alone", () => {
  const [a, b] = [box("a", 100, 100, 199, 180), box("b", 500, 10, 700, 90)];
  const part = (before: (typeof a)[], now: (typeof a)[], up: number, x: number, y: number) =>
    changedPart({ bare: "plate", patches: before }, { bare: "plate", patches: now }, 512, up, x, y);
  // Out to the squares that a picture is coded in, and a pixel farther.
  expect(part([], [a], 1, 0, 0)).toEqual({ x: 96, y: 96, width: 208 - 96, height: 184 - 96 });
  expect(part([a], [], 1, 0, 0)).toEqual(part([], [a], 1, 0, 0));
  expect(part([b], [b, a], 1, 0, 0)).toEqual(part([], [a], 1, 0, 0));
  // Both parts of one that lies over two tiles, none beyond.
  expect(part([], [b], 1, 0, 0)).toEqual({ x: 496, y: 8, width: 16, height: 88 });
  expect(part([], [b], 1, 1, 0)).toEqual({ x: 0, y: 8, width: 192, height: 88 });
  expect(part([], [b], 1, 0, 1)).toBeNull();
  // Another strength is another name.
  expect(part([a], [{ ...a, name: "fainter" }], 2, 0, 0)).toEqual({ x: 48, y: 48, width: 56, height: 48 });
  // Nothing, most of it, or another plate: it is asked for whole.
  expect(part([a], [a], 1, 0, 0)).toBeNull();
  expect(part([], [box("wide", 0, 0, 500, 300)], 1, 0, 0)).toBeNull();
  expect(changedPart({ bare: "plate", patches: [] }, { bare: "other", patches: [a] }, 512, 1, 0, 0)).toBeNull();
});
