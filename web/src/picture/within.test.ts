import { describe, expect, it } from "vitest";
import { within } from "./within";

describe("a middle whose surroundings lie within the picture", () => {
  it("stays where there is room and moves in from the border", () => {
    expect(within(50, 20, 100)).toBe(50);
    expect(within(3, 20, 100)).toBe(10);
    expect(within(99, 20, 100)).toBe(90);
  });
  it("is the picture's where it is asked for more than all", () => expect(within(3, 140, 100)).toBe(50));
});
