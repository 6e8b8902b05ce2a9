import { expect, test } from "vitest";
import type { Frame } from "../api/client";
import { clock, exposure, movement, plural } from "./words";

const frame = (part: Partial<Frame>) => part as Frame;

test("movement is told in words and small amounts are left out", () => {
  expect(movement(frame({ moved: [-31.2, 0.2], turned_deg: 0.42, scaled: 1.12 }))).toBe(
    "turned 0.4° right, 31 px left, 12.0 % larger",
  );
  expect(movement(frame({ moved: [0, 0], turned_deg: 0, scaled: 1 }))).toBe("not moved");
  expect(movement(frame({ moved: null }))).toBe("");
});

test("exposure data keep their units", () => {
  expect(exposure(frame({ exposure_s: 0.004, aperture: 8, iso: 200, focal_mm: 29 }))).toBe(
    "1/250 s  f/8  ISO 200  29 mm",
  );
  expect(exposure(frame({ exposure_s: 2 }))).toBe("2 s");
});

test("clock and plural", () => {
  expect(clock("2026-05-16T14:31:07.250")).toBe("14:31:07");
  expect(clock(null)).toBe("no clock");
  expect(plural(1, "frame")).toBe("1 frame");
  expect(plural(3, "frame")).toBe("3 frames");
});
