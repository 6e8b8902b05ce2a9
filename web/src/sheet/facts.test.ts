import { expect, test } from "vitest";
import type { Frame, SetDetail } from "../api/client";
import { frameNumber, viewTitle } from "../picture/names";
import { agreement, frameView, plate } from "../picture/views";
import { alignFact } from "./AlignLine";
import { exportFact } from "./ExportLine";
import { asideLabel, setAside } from "../frames/aside";
import { framesFact } from "./FramesLine";

const frame = (id: number | null, part: Partial<Frame> = {}) =>
  ({
    id: id ?? 90,
    joined: id != null,
    state: "ready",
    used: true,
    set_aside: false,
    reason: null,
    residual_px: 0.05,
    findings: [],
    ...part,
  }) as Frame;

const set = (frames: Frame[], part: Partial<SetDetail> = {}) =>
  ({ frames, canvas: { width: 1600, height: 1067 }, reference: 0, recipe: { align: "auto" }, ...part }) as SetDetail;

test("the frames' fact counts what takes part and what needs a decision", () => {
  expect(framesFact(set([]))).toEqual({ text: "no frames yet", open: true });
  expect(framesFact(set([frame(0), frame(1)]))).toEqual({ text: "2 frames", open: false });
  expect(framesFact(set([frame(0), frame(1, { used: false, set_aside: true }), frame(2)])).text).toBe(
    "3 frames, 1 set aside",
  );
  const bad = frame(null, { state: "failed", used: false });
  expect(framesFact(set([frame(0), frame(1), bad]))).toEqual({ text: "3 frames, 1 unreadable", open: true });
  expect(framesFact(set([frame(0)])).text).toBe("1 frame, the plate is that frame");
  const soft = frame(1, {
    findings: [
      { matters: true, text: "soft" },
      { matters: false, text: "bluer" },
    ],
  });
  expect(framesFact(set([frame(0), soft]))).toEqual({ text: "2 frames, 1 to look at", open: true });
  expect(framesFact(set([frame(0), { ...soft, used: false, set_aside: true }]))).toEqual({
    text: "2 frames, 1 set aside, the plate is that frame",
    open: false,
  });
  const reading = frame(null, { state: "reading", used: false });
  expect(framesFact(set([frame(0), reading])).text).toBe("2 frames, 1 being read");
});

test("the fit's fact names the worst frame by its number on the screen", () => {
  const frames = [frame(1, { residual_px: 0.21 }), frame(0, { residual_px: 0 }), frame(2, { residual_px: 0.08 })];
  expect(alignFact(set(frames)).text).toBe("worst 0.21 px, frame 1");
  expect(
    alignFact(set([...frames, frame(3, { residual_px: null, used: false, reason: "it shows another view" })])).text,
  ).toBe("worst 0.21 px, frame 1, 1 not fitting");
  expect(alignFact(set(frames, { recipe: { align: "off" } as SetDetail["recipe"] })).text).toBe("left as shot");
  expect(alignFact(set([frame(0)])).text).toBe("one frame, nothing to align");
  expect(alignFact(set([], { canvas: null })).text).toBe("nothing to align");
  expect(alignFact(set(frames, { canvas: null })).text).toBe("not aligned yet");
});

test("sizes and labels are told in full", () => {
  expect(exportFact(set([])).text).toBe("1600 × 1067 px");
  expect(exportFact(set([], { canvas: null })).text).toBe("no plate yet");
  expect(asideLabel(7, false)).toBe("set frame 7 aside");
  expect(asideLabel(7, true)).toBe("bring frame 7 back");
});

test("frames are set aside by their identities, each once", () => {
  const recipe = { excluded: [4] } as SetDetail["recipe"];
  expect(setAside(recipe, [7, 4], true)).toEqual({ excluded: [7, 4] });
  expect(setAside(recipe, [4], false)).toEqual({ excluded: [] });
});

test("frames are numbered by their place on the screen, not by their identity", () => {
  const s = set([frame(2), frame(0), frame(1)]);
  expect(frameNumber(s, 0)).toBe(2);
  expect(viewTitle(s, frameView(2))).toBe("Frame 1, aligned");
  expect(viewTitle(s, plate)).toBe("Plate");
  expect(viewTitle(s, agreement)).toContain("Agreement");
});
