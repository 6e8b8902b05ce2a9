import { expect, test } from "vitest";
import type { Frame } from "../api/client";
import { byMoment, pause, places } from "./axis";

const frames = (seconds: (number | null)[], moments?: number[]) =>
  seconds.map((s, k) => ({ seconds: s, joined: true, moment: moments?.[k] ?? k }) as unknown as Frame);

test("places keep the order, end at the ends, and long pauses do not crush a burst", () => {
  const at = places(frames([0, 1, 2, 3, 600, 601]));
  expect(at[0]).toBe(0);
  expect(at[5]).toBe(1);
  expect(at.every((v, k) => !k || v > (at[k - 1] ?? 0))).toBe(true);
  expect((at[1] ?? 0) - (at[0] ?? 0)).toBeGreaterThan(0.05);
  expect(places(frames([5]))).toEqual([0.5]);
  expect(places(frames([null, null, null]))).toEqual([0, 0.5, 1]);
});

test("only unusual pauses are told, in the unit that suits them", () => {
  const list = frames([0, 3, 6, 9, 54, 57, 900, 90000]);
  expect(list.map((_, k) => pause(list, k))).toEqual([
    null,
    null,
    null,
    null,
    "45 s later",
    null,
    "14 min later",
    "25 h later",
  ]);
});

test("neighbours of one moment stay together", () => {
  expect(byMoment(frames([0, 1, 2, 3], [0, 0, 1, 2])).map((g) => g.length)).toEqual([2, 1, 1]);
});
