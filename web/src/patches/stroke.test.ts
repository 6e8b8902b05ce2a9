import { expect, test } from "vitest";
import { outlineOf, pressed } from "./stroke";

const around = (outline: { x: number; y: number }[], x: number, y: number) =>
  outline.reduce((wound, p, k) => {
    const q = outline[(k + 1) % outline.length] ?? p;
    if (p.y > y === q.y > y || p.x + ((q.x - p.x) * (y - p.y)) / (q.y - p.y) < x) return wound;
    return wound + (q.y > p.y ? 1 : -1);
  }, 0);

test("a stroke covers what the brush passed over", () => {
  const outline = outlineOf([0, 10, 20, 30].map((x) => ({ x, y: 5, r: 6 })));
  for (const [x, y] of [
    [0, 5],
    [30, 5],
    [15, 10],
    [15, 0],
    [-5, 5],
    [35, 5],
  ])
    expect(around(outline, x ?? 0, y ?? 0), `${x}, ${y}`).not.toBe(0);
  for (const [x, y] of [
    [15, 12],
    [-7, 5],
    [37, 5],
  ])
    expect(around(outline, x ?? 0, y ?? 0), `${x}, ${y}`).toBe(0);
});

test("a dab is round and a bow covers its crossing", () => {
  const dab = outlineOf([{ x: 5, y: 5, r: 4 }]);
  expect(around(dab, 5, 5)).not.toBe(0);
  expect(around(dab, 8, 8)).toBe(0);
  const bow = outlineOf(
    [
      [0, 0],
      [20, 0],
      [20, 20],
      [10, 20],
      [10, -20],
    ].map(([x, y]) => ({ x: x ?? 0, y: y ?? 0, r: 3 })),
  );
  expect(around(bow, 10, 0)).not.toBe(0);
});

test("a pen's pressure makes it wider", () => {
  expect(pressed(10, { pointerType: "mouse", pressure: 0.5 })).toBe(10);
  expect(pressed(10, { pointerType: "pen", pressure: 1 })).toBe(10);
  expect(pressed(10, { pointerType: "pen", pressure: 0 })).toBeCloseTo(3);
});
