import { expect, test } from "vitest";
import type { State } from "../api/client";
import { branch } from "./HistoryLine";

const state = (seq: number, parent: number | null, current = false): State => ({
  seq,
  parent,
  label: `act ${seq}`,
  made: null,
  current,
});

test("a branch is what led to the current state and what goes on from it", () => {
  // 0 - 1 - 2 - 3 and, after going back to 1, 4 - 5.
  const states = [state(0, null), state(1, 0), state(2, 1), state(3, 2), state(4, 1), state(5, 4, true)];
  expect([...branch(states)].sort()).toEqual([0, 1, 4, 5]);
  const back = states.map((s) => ({ ...s, current: s.seq === 2 }));
  expect([...branch(back)].sort()).toEqual([0, 1, 2, 3]);
});
