import { beforeEach, expect, test } from "vitest";
import { difference, frameView, plate } from "../picture/views";
import { fresh, useView } from "./store";

const { set } = useView.getState();
const taking = () => useView.getState().taking;

beforeEach(() => set(fresh));

test("what is brushed or looped is taken from the frame that was shown last meanwhile", () => {
  set({ drawing: "brush", taking: 3, view: frameView(3) });
  set({ view: frameView(7) });
  expect(taking()).toBe(7);
  // The plate with what was taken comes back, and the brush goes on.
  set({ view: plate });
  expect(taking()).toBe(7);
  set({ drawing: "loop", taking: null });
  set({ view: frameView(2) });
  expect(taking()).toBe(2);
});

test("a frame is only looked at while nothing is taken", () => {
  set({ view: frameView(7) });
  expect(taking()).toBeNull();
  set({ drawing: "brush", giving: true, taking: null });
  set({ view: frameView(4) });
  expect(taking()).toBeNull();
  set({ drawing: "ignore", giving: false, view: frameView(0) });
  expect(taking()).toBeNull();
  // Another part of the page, a frame shown or not, leaves it.
  set({ drawing: "brush", taking: 5, view: difference(2) });
  set({ zoom: 2 });
  expect(taking()).toBe(5);
});
