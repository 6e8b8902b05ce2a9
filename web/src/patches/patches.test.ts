import { expect, test } from "vitest";
import type { Patch, SetDetail } from "../api/client";
import { begun, boxOf, frameOf, laid, softness, sourceWords } from "./patches";

const outline = [
  { x: 10, y: 20 },
  { x: 40, y: 20 },
  { x: 30, y: 60 },
];
const lift = (source: Patch["source"]): Patch => ({
  on: 0,
  outline,
  source,
  feather: 2,
  snap_to_edges: false,
  optimal_seam: true,
  exclude_introduced: false,
  tone: true,
  grain: true,
  strength: 1,
  disabled: false,
});

test("the same outline is drawn once, with the source chosen last", () => {
  const first = laid([], lift({ frame: 3 }));
  expect(first).toHaveLength(1);
  const second = laid(
    first.map((l) => ({ ...l, disabled: true, feather: 9 })),
    lift({ frame: 5 }),
  );
  expect(second).toEqual([{ ...lift({ frame: 5 }), feather: 9 }]);
  const elsewhere = { ...lift({ frame: 1 }), outline: outline.slice(0, 3).map((p) => ({ x: p.x + 1, y: p.y })) };
  expect(laid(second, elsewhere)).toHaveLength(2);
});

test("sources are named as frames are shown", () => {
  const set = { frames: [{ id: 2 }, { id: 0 }] } as unknown as SetDetail;
  expect(sourceWords(set, { frame: 0 })).toBe("Frame 2");
  expect(sourceWords(set, { highlight_suppressed: 2 })).toBe("Frame 1 without highlights");
  expect(sourceWords(set, { method: "mean" })).toBe("Mean");
  expect([frameOf({ frame: 4 }), frameOf({ highlight_suppressed: 1 }), frameOf({ method: "mean" })]).toEqual([
    4,
    1,
    null,
  ]);
});

test("from a frame the border is found and the tone matched, by a method it is as drawn", () => {
  const set = { reference: 3, canvas: { width: 1600 } } as unknown as SetDetail;
  expect(begun(set, outline, { frame: 1 })).toMatchObject({ on: 3, optimal_seam: true, tone: true, feather: 0 });
  expect(begun(set, outline, { method: "mean" })).toMatchObject({ optimal_seam: false, tone: false, feather: 10 });
});

test("borders are wider between methods than around a thing", () => {
  expect(softness(1600, { frame: 1 })).toBe(0);
  expect(softness(1600, { method: "mean" })).toBe(10);
  expect(boxOf(outline)).toEqual({ x: 10, y: 20, width: 30, height: 40 });
});
