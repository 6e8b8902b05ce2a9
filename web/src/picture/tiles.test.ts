import { expect, test } from "vitest";
import { tileKey } from "./tiles";

const box = (name: string, left: number, top: number, right: number, bottom: number) => ({ name, left, top, right, bottom });

test("a tile is called by the lifts that reach it", () => {
  const names = { bare: "plate", lifts: [box("a", 100, 100, 200, 200), box("b", 600, 10, 700, 90), box("c", -8, -8, 512, 20)] };
  const at = (up: number, x: number, y: number) => tileKey(names, "whole", 512, up, x, y);
  expect(at(1, 0, 0)).toBe("plate-a-c");
  // Touching counts.
  expect(at(1, 1, 0)).toBe("plate-b-c");
  expect(at(1, 1, 1)).toBe("plate");
  expect(at(2, 0, 0)).toBe("plate-a-b-c");
});

test("one that many reach is called by the whole plate", () => {
  const lifts = Array.from({ length: 9 }, (_, k) => box(String(k), 0, 0, 10, 10));
  expect(tileKey({ bare: "plate", lifts }, "whole", 512, 1, 0, 0)).toBe("whole");
  expect(tileKey({ bare: "plate", lifts: lifts.slice(1) }, "whole", 512, 1, 0, 0)).toBe("plate-1-2-3-4-5-6-7-8");
});
