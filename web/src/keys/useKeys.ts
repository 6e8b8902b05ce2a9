// Keys of the workplace. The sheet that `?` opens is made from the same list.
import { useEffect } from "react";
import type { SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { isLaid } from "../picture/names";
import { showClip, useClip } from "../clip/clip";
import { clipKeys } from "../clip/keys";
import { useTime } from "../clip/time";
import { next } from "../picture/light";
import { camera } from "../picture/camera";
import { surrounds, toggled } from "../picture/slice";
import { resized } from "../drawing/slice";
import { useView } from "../state/store";
import { agreement, frameView, plate, shownFrame } from "../picture/views";
import { nextBest, takePlace } from "../patches/patches";
import { goTo, nextOpen, settle, useDoubts } from "../doubts/doubts";
import { asideLabel, setAside } from "../frames/aside";

export const keyList: [string, string][] = [
  ["Space", "Play the clip, and pause it; there [ ] step by a frame, , . go to contacts, D and Y compare"],
  ["B (hold)", "Before: the reference frame as shot"],
  ["D", "Divider between the plate and the reference frame"],
  ["F", "Flick through the aligned frames"],
  ["C", "Contact sheet: all frames on the axis of time"],
  ["T", "See-through: the frame right of the divider over the whole"],
  ["E", "Both sides of a comparison take turns"],
  ["Y", "What differs between both sides of a comparison, four times as strong"],
  ["I", "Inspection light: shadows lifted, tone flattened, grain only; the view alone"],
  ["R", "Reach: where frames end"],
  ["P", "Plate"],
  ["A", "Agreement"],
  [",  .", "Doubt before, next doubt"],
  ["V", "Accept what is proposed at the open doubt"],
  ["M", "This place by every method"],
  ["L", "Loop: draw around a place to take it from a frame or by a method; from the frame that is shown, at once"],
  ["G", "Brush over a place instead of drawing around it"],
  ["N", "Take the kept place from the frame that most surely leaves it clear; again: from the next"],
  ["Z", "While drawing: what lies under the pointer, magnified beside it"],
  ["J  K", "While copying: turn the source, enlarge it; with Shift the other way; Shift M mirrors it"],
  ["U", "Give back what is drawn around or brushed over"],
  ["O", "Origin: hatched where few frames agree"],
  ["Q", "Crops with the clearest first, or in order of time"],
  ["1 … 9, 0", "Show frame 1 … 9, 10; at a kept place, a loop or a doubt, take it from that frame"],
  ["[  ]", "Frame before, frame after"],
  ["X", "Set the shown frame aside, or bring it back"],
  ["W", "Whole picture"],
  ["H", "Hundred percent: one pixel of the plate is one of the screen"],
  ["+  −", "Larger, smaller: the picture, or the brush"],
  ["Arrows", "Move the picture; ten times as far with Shift"],
  ["S", "Surround: grey, dim, bright"],
  ["Esc", "Let go of the place; close"],
  ["Ctrl Z", "Undo"],
  ["Ctrl Shift Z", "Redo"],
  ["?", "This sheet"],
];

export function useKeys(open: OpenSet, set: SetDetail | undefined) {
  const doubts = useDoubts(set);
  const clip = useClip(set);
  useEffect(() => {
    if (!set) return;
    const openDoubt = () => doubts?.[useView.getState().doubt ?? -1];
    const step = (by: 1 | -1) => {
      if (doubts?.length) goTo(doubts, nextOpen(doubts, useView.getState().doubt ?? (by > 0 ? -1 : 0), by));
    };
    const decide = (frame: number | null) => {
      const doubt = openDoubt();
      if (!doubt || !doubts) return;
      settle(open, set, doubt, frame);
      goTo(doubts, nextOpen(doubts, useView.getState().doubt ?? 0, 1));
    };
    const shown = () => shownFrame(useView.getState().view);
    const showFrame = (position: number) => {
      const frames = set.frames.filter(isLaid);
      const frame = frames[(position + frames.length) % frames.length];
      if (frame) useView.getState().set({ view: frameView(frame.id), flicking: false, sheet: false });
    };
    const showDigit = (digit: number) => {
      const frame = set.frames[digit];
      const { pinned, loop } = useView.getState();
      if (frame?.used) {
        // A loop drawn within a doubt takes that part alone.
        if (openDoubt() && !loop) return decide(frame.id);
        if (pinned || loop) return void takePlace(open, set, frame.id);
      }
      if (frame && isLaid(frame)) useView.getState().set({ view: frameView(frame.id), flicking: false, sheet: false });
    };
    const down = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (target.closest("input:not([type=range]), textarea, [role=dialog], [role=menu]")) return;
      const v = useView.getState();
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z") {
        e.preventDefault();
        if (e.shiftKey ? set.redo : set.undo) (e.shiftKey ? open.redo : open.undo)();
        return;
      }
      // In a list of choices letters and arrows choose.
      if (e.ctrlKey || e.metaKey || e.altKey || target.closest("select")) return;
      // The brush while there is one, else the picture.
      const larger = (by: 1 | -1) =>
        v.drawing === "brush" || v.drawing === "stroke"
          ? v.set({ brush: resized(v.brush, by) })
          : camera.zoomBy(1.4 ** by);
      const far = e.shiftKey ? 400 : 40;
      const digit = /^\d$/.test(e.key) ? (Number(e.key) + 9) % 10 : null;
      const frame = set.frames.find((f) => f.id === shown());
      const beside = v.other ? {} : { other: set.reference == null ? null : frameView(set.reference) };
      const inControls = target.closest("[role=radiogroup], [role=slider], input[type=range]");
      const acts: Record<string, () => void> = {
        b: () => v.set({ holding: true }),
        d: () => v.set({ other: v.other ? null : set.reference == null ? null : frameView(set.reference) }),
        f: () => v.set({ flicking: !v.flicking, ...(v.flicking ? { view: plate } : {}) }),
        p: () => v.set({ view: plate, flicking: false, sheet: false }),
        a: () => v.set({ view: v.view.kind === "agreement" ? plate : agreement, flicking: false }),
        m: () => v.set({ byMethod: !v.byMethod }),
        // A frame that is shown is the one to take from.
        l: () =>
          v.set({
            drawing: v.drawing === "loop" ? null : "loop",
            giving: false,
            taking: shown(),
            sheet: false,
            flicking: false,
            ...(shown() == null ? { view: plate } : {}),
          }),
        g: () =>
          v.set({
            drawing: v.drawing === "brush" ? null : "brush",
            giving: v.drawing === "loop" && v.giving,
            taking: v.drawing === "brush" ? null : shown(),
            sheet: false,
            flicking: false,
            ...(shown() == null ? { view: plate } : {}),
          }),
        z: () => v.drawing && v.set({ magnified: !v.magnified }),
        i: () => v.set({ light: next(v.light), sheet: false }),
        e: () => v.other && v.set({ compare: toggled(v.compare, "turns") }),
        y: () => v.set({ compare: v.other ? toggled(v.compare, "difference") : "difference", ...beside }),
        o: () => v.set({ evidence: !v.evidence, sheet: false }),
        q: () => v.set({ clearest: !v.clearest }),
        c: () => v.set({ sheet: !v.sheet, flicking: false }),
        r: () => v.set({ reach: !v.reach, sheet: false }),
        t: () => v.set({ compare: v.other ? toggled(v.compare, "through") : "through", ...beside }),
        n: () => void nextBest(open, set),
        u: () =>
          v.set(
            v.giving
              ? { drawing: null, giving: false }
              : {
                  drawing: v.drawing === "brush" ? "brush" : "loop",
                  giving: true,
                  taking: null,
                  sheet: false,
                  flicking: false,
                  view: plate,
                },
          ),
        w: camera.whole,
        h: camera.hundred,
        "+": () => larger(1),
        "=": () => larger(1),
        "-": () => larger(-1),
        "[": () => showFrame(set.frames.filter(isLaid).findIndex((f) => f.id === shown()) - 1),
        "]": () => showFrame(set.frames.filter(isLaid).findIndex((f) => f.id === shown()) + 1),
        ".": () => step(1),
        ",": () => step(-1),
        v: () => decide(null),
        x: () => {
          if (!frame?.joined || frame.reason) return;
          void open.change(
            asideLabel(set.frames.indexOf(frame) + 1, frame.set_aside),
            setAside(set.recipe, [frame.id], !frame.set_aside),
          );
        },
        s: () => v.set({ surround: surrounds[(surrounds.indexOf(v.surround) + 1) % surrounds.length] }),
        escape: () =>
          v.drawing
            ? v.set({ drawing: null, taking: null, giving: false, part: null })
            : v.moving
              ? v.set({ moving: false })
              : v.set({
                  pinned: null,
                  other: null,
                  flicking: false,
                  compare: "divide",
                  sheet: false,
                  hand: null,
                  pairing: false,
                  doubt: null,
                  loop: null,
                  peek: null,
                  patch: null,
                  view: plate,
                }),
        "?": () => v.set({ keysShown: true }),
        ...(inControls
          ? {}
          : {
              arrowleft: () => camera.panBy(-far, 0),
              arrowright: () => camera.panBy(far, 0),
              arrowup: () => camera.panBy(0, -far),
              arrowdown: () => camera.panBy(0, far),
            }),
      };
      if (clip) Object.assign(acts, v.clip ? clipKeys(clip) : { " ": () => showClip() });
      const act = digit === null ? acts[e.key.toLowerCase()] : () => showDigit(digit);
      if (act) {
        e.preventDefault();
        act();
      }
    };
    const away = () => {
      useView.getState().set({ holding: false });
      useTime.getState().set({ holding: false });
    };
    const up = (e: KeyboardEvent) => e.key.toLowerCase() === "b" && away();
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    window.addEventListener("blur", away);
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
      window.removeEventListener("blur", away);
    };
  }, [open, set, doubts, clip]);
}
