import { describe, expect, it } from "vitest";
import { backOf, gridOn, isQuad, ofLines, ontoFrom, planeOf, UNMOVED, type Quad } from "./geometry";

const floor: Quad = [
  { x: 100, y: 100 },
  { x: 200, y: 100 },
  { x: 300, y: 300 },
  { x: 0, y: 300 },
];

const close = (a: { x: number; y: number }, b: { x: number; y: number }) =>
  expect(Math.hypot(a.x - b.x, a.y - b.y)).toBeLessThan(1e-6);

describe("moves onto an area", () => {
  it("turn and enlarge about the area's middle and leave the source's where it is", () => {
    const middle = { x: 50, y: 40 };
    const move = { shift: [20, -10], turn: 30, scale: 2, mirror: true };
    close(backOf(move, middle)(middle), { x: 30, y: 50 });
    const beside = backOf(move, middle)({ x: 60, y: 40 });
    expect(Math.hypot(beside.x - 30, beside.y - 50)).toBeCloseTo(5);
  });

  it("take a place from where it was pointed at, whatever the middle", () => {
    for (const plane of [null, floor]) {
      const move = plane ? UNMOVED : { ...UNMOVED, turn: -20, scale: 1.5 };
      const [from, to] = [
        { x: 150, y: 140 },
        { x: 160, y: 220 },
      ];
      const middle = { x: 170, y: 230 };
      close(backOf(ontoFrom(from, to, move, middle, plane), middle, plane)(to), from);
    }
  });
});

describe("planes", () => {
  it("are seen from the front, and back, and move nothing about the middle", () => {
    const middle = { x: 150, y: 200 };
    const plane = planeOf(floor, middle);
    if (!plane) throw new Error("no plane");
    close(plane.front(middle), middle);
    close(plane.back(plane.front({ x: 80, y: 250 })), { x: 80, y: 250 });
    // Farther away, where it is smaller, it is enlarged.
    const wide = plane.front({ x: 160, y: 120 }).x - plane.front({ x: 150, y: 120 }).x;
    expect(wide).toBeGreaterThan(12);
  });

  it("come of two lines, whichever way they were drawn, and have a grid", () => {
    const [a, b, c, d] = floor;
    expect(ofLines([a, d], [b, c])).toEqual([a, d, c, b]);
    expect(ofLines([a, d], [c, b])).toEqual([a, d, c, b]);
    expect(isQuad([a, d, c, b])).toBe(true);
    expect(isQuad([a, c, b, d])).toBe(false);
    expect(gridOn(floor)).toHaveLength(10);
  });
});
