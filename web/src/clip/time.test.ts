import { describe, expect, it } from "vitest";
import { frameAt, nextCrossing, timeWords, within } from "./time";

const seconds = [0, 0.04, 0.08, 0.2, 0.24];

describe("time in a clip", () => {
  it("finds the frame that is shown, also where frames do not follow at one pace", () => {
    expect([0, 0.039, 0.04, 0.1, 0.2, 9].map((t) => frameAt(seconds, t))).toEqual([0, 0, 1, 2, 3, 4]);
    expect(frameAt([], 3)).toBe(0);
  });

  it("goes to the middle of a frame, which is that frame", () => {
    for (let k = 0; k < seconds.length; k++) expect(frameAt(seconds, within(seconds, k))).toBe(k);
  });

  it("steps through crossings in order of time, and begins anew at the end", () => {
    const crossings = [{ worst: 40 }, { worst: 10 }, { worst: 25 }];
    expect(nextCrossing(crossings, 10, 1)).toBe(25);
    expect(nextCrossing(crossings, 40, 1)).toBe(10);
    expect(nextCrossing(crossings, 10, -1)).toBe(40);
    expect(nextCrossing([], 10, 1)).toBeNull();
  });

  it("is written as minutes and seconds", () => {
    expect(timeWords(3.2)).toBe("00:03.20");
    expect(timeWords(75)).toBe("01:15.00");
  });
});
