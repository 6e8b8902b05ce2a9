import { expect, test } from "vitest";
import type { SetDetail } from "../api/client";
import {
  agreement,
  bare,
  difference,
  frameOfView,
  frameView,
  isSame,
  plate,
  shownFrame,
  stateView,
  tileName,
  viewOf,
  wordOf,
} from "./views";

const all = [plate, bare, agreement, frameView(41), difference(7), stateView(12)];

test("a view and its word mean the same", () => {
  for (const view of all) expect(viewOf(wordOf(view))).toEqual(view);
  expect(new Set(all.map(wordOf)).size).toBe(all.length);
  expect(viewOf("")).toEqual(plate);
  expect(isSame(frameView(3), { kind: "frame", frame: 3 })).toBe(true);
  expect(isSame(frameView(3), difference(3))).toBe(false);
  expect(isSame(null, plate)).toBe(false);
  expect(isSame(null, null)).toBe(true);
});

test("tiles are asked for by the names that the server knows", () => {
  const set = { recipe: { method: "rank:30" } } as SetDetail;
  expect(all.map((view) => tileName(view, set))).toEqual([
    "plate",
    "by-rank:30",
    "agreement",
    "frame-41",
    "difference-7",
    "plate",
  ]);
});

test("a difference is about a frame and does not show it as it is", () => {
  expect(all.map(shownFrame)).toEqual([null, null, null, 41, null, null]);
  expect(all.map(frameOfView)).toEqual([null, null, null, 41, 7, null]);
});
