import { describe, expect, it } from "vitest";
import type { Frame } from "../api/client";
import { clock, exposure, methodTitle, movement, plural } from "./words";

const frame = (part: Partial<Frame>) => part as Frame;

describe("figures in words", () => {
  it("tells an exposure as it is written on a camera", () => {
    expect(exposure(frame({ exposure_s: 0.004, aperture: 8, iso: 200, focal_mm: 29.2 }))).toBe(
      "1/250 s  f/8  ISO 200  29 mm",
    );
    expect(exposure(frame({ exposure_s: 2 }))).toBe("2 s");
    expect(exposure(frame({}))).toBe("");
  });

  it("tells how a frame was moved, and leaves out what nobody would see", () => {
    expect(movement(frame({}))).toBe("");
    expect(movement(frame({ moved: [0.2, -0.3], turned_deg: 0.01, scaled: 1.001 }))).toBe("not moved");
    expect(movement(frame({ moved: [31.4, -2.6], turned_deg: -0.42, scaled: 1.02 }))).toBe(
      "turned 0.4° left, 31 px right, 3 px up, 2.0 % larger",
    );
    expect(movement(frame({ moved: [-7, 12], turned_deg: 0.1, scaled: 0.97 }))).toBe(
      "turned 0.1° right, 7 px left, 12 px down, 3.0 % smaller",
    );
  });

  it("tells a time, a number of things and a method", () => {
    expect(clock("2026-05-16T14:03:22.150")).toBe("14:03:22");
    expect(clock(null)).toBe("no clock");
    expect([plural(1, "lift"), plural(0, "lift"), plural(2, "story", "stories")]).toEqual([
      "1 lift",
      "0 lifts",
      "2 stories",
    ]);
    expect([methodTitle("clipped"), methodTitle("rank:75")]).toEqual(["Clipped mean", "Rank 75"]);
  });
});
