import { describe, expect, it } from "vitest";
import type { Doubt, Recipe, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { nextOpen, settle } from "./doubts";

const bbox = { x: 10, y: 20, width: 30, height: 40 };
const other = { bbox: { ...bbox, x: 90 }, frame: 4, open: false };

/** What one answer sends: its label, and the part of the recipe. */
function sent(how: Parameters<typeof settle>[3], doubt: Partial<Doubt> = {}, settled: Recipe["settled"] = [other]) {
  let act: [string, Partial<Recipe>] = ["", {}];
  const open = { change: (...sent: typeof act) => (act = sent) } as unknown as OpenSet;
  const set = { recipe: { settled, protected: [] }, reference: 3, frames: [{ id: 3 }, { id: 4 }] };
  settle(open, set as unknown as SetDetail, { bbox, ...doubt } as Doubt, how);
  return act;
}

describe("answers to a doubt", () => {
  it("takes the place from a frame, named by its number on the screen", () => {
    expect(sent(4)).toEqual(["take a place from frame 2", { settled: [other, { bbox, frame: 4, open: false }] }]);
  });

  it("replaces an earlier answer to the same place and leaves others alone", () => {
    const before = [{ bbox, frame: 4, open: false }, other];
    expect(sent(null, {}, before)[1].settled).toEqual([other, { bbox, frame: null, open: false }]);
  });

  it("keeps what is there from whatever is done by hand", () => {
    const [, part] = sent("keep");
    expect(part.settled).toContainEqual({ bbox, frame: null, open: false });
    expect(part.protected?.[0]).toMatchObject({ on: 3, outline: [{ x: 10, y: 20 }, { x: 40, y: 20 }, {}, {}] });
  });

  it("opens again: forgets an answer, or says that Evanu's own is not taken", () => {
    const before = [{ bbox, frame: 4, open: false }, other];
    expect(sent("reopen", {}, before)[1].settled).toEqual([other]);
    expect(sent("reopen", { settled: "evanu" })[1].settled).toEqual([other, { bbox, frame: null, open: true }]);
  });

  it("goes on to the next open one, around the end, and stays where there is none", () => {
    const list = [null, "you", null, "evanu"].map((settled) => ({ settled }) as Doubt);
    expect([nextOpen(list, 0, 1), nextOpen(list, 2, 1), nextOpen(list, 0, -1)]).toEqual([2, 0, 2]);
    expect(nextOpen([{ settled: "you" } as Doubt], 0, 1)).toBe(0);
  });
});
