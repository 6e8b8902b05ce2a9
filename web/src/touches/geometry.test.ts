import { describe, expect, it } from "vitest";
import core from "../../../crates/core/tests/moves.json";
import type { PatchTransform, Point } from "../api/client";
import { backOf, gridOn, isQuad, movedBy, ofLines, ontoFrom, planeOf, rodOf, UNMOVED, type Quad } from "./geometry";

const floor: Quad = [
  { x: 100, y: 100 },
  { x: 200, y: 100 },
  { x: 300, y: 300 },
  { x: 0, y: 300 },
];

const mirrored = (mirror: boolean): PatchTransform => ({ ...UNMOVED, mirror });

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

  it("take from where the core takes from", () => {
    const cases = core as { plane: Point[] | null; move: PatchTransform; middle: Point; at: Point; source: Point }[];
    expect(cases.length).toBeGreaterThan(20);
    for (const { plane, move, middle, at, source } of cases) {
      const found = backOf(move, middle, plane as Quad | null)(at);
      expect(Math.hypot(found.x - source.x, found.y - source.y)).toBeLessThan(0.01);
    }
  });

  it("are taken by the middle of the source and by the end of its rod, and stay where they are let go", () => {
    const middle = { x: 150, y: 200 };
    for (const plane of [null, floor])
      for (const mirror of [false, true]) {
        const move = { shift: [20, -10], turn: 30, scale: 1.6, mirror };
        const [at, end] = rodOf(move, middle, 40, plane);
        const same = movedBy(
          "end",
          end,
          movedBy("middle", at, mirrored(mirror), [middle, 40], plane),
          [middle, 40],
          plane,
        );
        expect(same.turn).toBeCloseTo(30, 1);
        expect(same.scale).toBeCloseTo(1.6, 2);
        expect(same.shift[0]).toBeCloseTo(20, 4);
        expect(same.shift[1]).toBeCloseTo(-10, 4);
      }
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
