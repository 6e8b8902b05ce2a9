import { expect, it } from "vitest";
import { runs, sharedFindings } from "./findings";

it("says a finding of many frames once, with their numbers", () => {
  const found = (...texts: string[]) => ({ findings: texts.map((text) => ({ text, matters: text === "dark" })) });
  const all = [found(), found("soft"), found("soft", "dark"), found("soft"), found("dark")];
  expect(sharedFindings(all as never)).toEqual([{ text: "soft", matters: false, frames: [2, 3, 4] }]);
  expect(runs([2, 3, 4, 7, 9, 10])).toBe("2–4, 7, 9–10");
});
