import { expect, test } from "vitest";
import { left, withHand } from "./hands";

const hand = (frame: number, turn: number) => ({ frame, on: 0, pairs: [], shift: [0, 0], turn, scale: 1, snap: false });

test("a frame has one entry", () => {
  const list = withHand([hand(1, 0), hand(2, 0)], hand(1, 5));
  expect(list.map((h) => [h.frame, h.turn])).toEqual([
    [2, 0],
    [1, 5],
  ]);
});

test("exact pairs leave nothing and a wrong one stands out", () => {
  const turned = (x: number, y: number) => ({
    from: { x, y },
    to: { x: 0.9 * x - 0.3 * y + 12, y: 0.3 * x + 0.9 * y - 7 },
  });
  const good = [turned(0, 0), turned(400, 20), turned(380, 300), turned(10, 280)];
  expect(Math.max(...left(good))).toBeLessThan(1e-9);
  const bad = good.map((p, k) => (k === 2 ? { ...p, to: { x: p.to.x + 30, y: p.to.y } } : p));
  const off = left(bad);
  expect(off.indexOf(Math.max(...off))).toBe(2);
  expect(left(good.slice(0, 2))).toEqual([0, 0]);
});
