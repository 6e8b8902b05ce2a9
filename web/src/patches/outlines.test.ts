import { expect, test } from "vitest";
import { inside, meet } from "./outlines";

const box = (x: number, y: number, w: number, h: number) => [
  { x, y },
  { x: x + w, y },
  { x: x + w, y: y + h },
  { x, y: y + h },
];

test("a place lies within an outline or not, also in a notch", () => {
  const notched = [...box(0, 0, 10, 10), { x: 5, y: 5 }];
  expect(inside({ x: 8, y: 5 }, notched)).toBe(true);
  expect(inside({ x: 2, y: 5 }, notched)).toBe(false);
  expect(inside({ x: 12, y: 5 }, notched)).toBe(false);
});

test("outlines meet where one lies in the other or they cross, also without a corner inside", () => {
  expect(meet(box(0, 0, 10, 10), box(2, 2, 3, 3))).toBe(true);
  expect(meet(box(0, 4, 10, 2), box(4, 0, 2, 10))).toBe(true);
  expect(meet(box(0, 0, 10, 10), box(11, 0, 3, 3))).toBe(false);
});
