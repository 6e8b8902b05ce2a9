// Laying one frame by hand: pairs of places, nudges, and the best fit near there, each seen at once in the picture.
import { useEffect } from "react";
import type { ManualAlignment, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { frameNumber } from "../picture/names";
import { useView } from "../state/store";
import { difference, frameView, plate } from "../picture/views";
import { Button } from "../ui/controls";
import { withHand } from "./hands";

export function HandBar({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { hand: index, view, other, compare, flicking, set: put } = useView();
  const frame = set.frames.find((f) => f.id === index);
  const saved = set.recipe.manual_alignments.find((h) => h.frame === index);
  const hand: ManualAlignment | null =
    index == null || set.reference == null
      ? null
      : (saved ?? { frame: index, on: set.reference, pairs: [], shift: [0, 0], turn: 0, scale: 1, snap: false });
  const change = (
    label: string,
    part: Partial<ManualAlignment> | ((now: ManualAlignment) => Partial<ManualAlignment>),
  ) => {
    if (!hand) return;
    const laid = (own: ManualAlignment) => ({
      ...own,
      snap: false,
      ...(typeof part === "function" ? part(own) : part),
    });
    void open.change(
      `${label} frame ${frameNumber(set, hand.frame)}`,
      ({ manual_alignments: all }) => ({
        manual_alignments: withHand(all, laid(all.find((h) => h.frame === hand.frame) ?? hand)),
      }),
      { joins: label === "nudge" },
    );
  };
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (!hand || (e.target as HTMLElement).closest("input, select, [role=dialog]")) return;
      const by = e.altKey ? 0.1 : e.shiftKey ? 10 : 1;
      const way: Record<string, [number, number]> = {
        ArrowLeft: [-by, 0],
        ArrowRight: [by, 0],
        ArrowUp: [0, -by],
        ArrowDown: [0, by],
      };
      const step = way[e.key];
      if (!step || useView.getState().pairing) return;
      e.preventDefault();
      e.stopImmediatePropagation();
      const round = (v: number) => Math.round(v * 10) / 10;
      change("nudge", ({ shift: [x, y] }) => ({ shift: [round((x ?? 0) + step[0]), round((y ?? 0) + step[1])] }));
    };
    window.addEventListener("keydown", key, true);
    return () => window.removeEventListener("keydown", key, true);
  });
  if (!hand || !frame) return null;
  const n = frameNumber(set, hand.frame);
  const own = frameView(hand.frame);
  const reference = frameView(hand.on);
  const mode =
    view.kind === "difference" && view.frame === hand.frame
      ? "difference"
      : flicking
        ? "flicker"
        : other && compare === "through"
          ? "through"
          : "plain";
  const show = (wanted: string) => {
    const plain = { view: own, other: null, compare: "divide" as const, flicking: false };
    if (wanted === "through") put({ ...plain, view: reference, other: own, compare: "through" });
    else if (wanted === "difference") put({ ...plain, view: difference(hand.frame) });
    else if (wanted === "flicker") put({ ...plain, flicking: true });
    else put(plain);
  };
  const number = "num w-20 border border-faint/60 bg-white px-1 text-right";
  return (
    <div
      data-own
      data-testid="hand-bar"
      className="absolute right-2 bottom-2 left-2 z-20 flex flex-wrap items-center gap-x-3 gap-y-1 border-l-4 border-ink bg-leaf px-3 py-1.5 text-[14px]"
    >
      <span className="font-semibold">Frame {n} by hand</span>
      <label className="flex items-center gap-1">
        Seen as
        <select
          aria-label="Seen as"
          className="border border-faint/60 bg-white"
          value={mode}
          onChange={(e) => show(e.target.value)}
        >
          <option value="plain">the frame</option>
          <option value="through">see-through</option>
          <option value="difference">difference</option>
          <option value="flicker">flicker</option>
        </select>
      </label>
      <Button onClick={() => put({ pairing: true })}>
        Name pairs{hand.pairs.length ? ` (${hand.pairs.length})` : ""}
      </Button>
      <span title="Arrow keys: 1 px; with Shift 10 px, with Alt 0.1 px">
        <span className="num" data-testid="hand-shift">
          {(hand.shift[0] ?? 0).toFixed(1)}, {(hand.shift[1] ?? 0).toFixed(1)} px
        </span>{" "}
        <span className="text-faint">arrow keys</span>
      </span>
      <label className="flex items-center gap-1">
        Turn
        <input
          type="number"
          step={0.05}
          className={number}
          aria-label="Turn in degrees"
          value={hand.turn}
          onChange={(e) => change("turn", { turn: Number(e.target.value) || 0 })}
        />
        °
      </label>
      <label className="flex items-center gap-1">
        Size
        <input
          type="number"
          step={0.1}
          className={number}
          aria-label="Size in percent"
          value={Math.round(hand.scale * 1000) / 10}
          onChange={(e) => Number(e.target.value) >= 20 && change("scale", { scale: Number(e.target.value) / 100 })}
        />
        %
      </label>
      <Button onClick={() => change("snap", { snap: true })}>Best fit near here</Button>
      <span className="text-faint" data-testid="hand-residual">
        {frame.residual_px != null ? `${frame.residual_px.toFixed(2)} px left` : ""}
      </span>
      <span className="grow" />
      {saved && (
        <button
          className="underline"
          onClick={() =>
            open.change(`give frame ${n} back to the alignment`, {
              manual_alignments: set.recipe.manual_alignments.filter((h) => h.frame !== hand.frame),
            })
          }
        >
          Give back
        </button>
      )}
      <Button
        strong
        onClick={() =>
          put({ hand: null, pairing: false, other: null, compare: "divide", flicking: false, view: plate })
        }
      >
        Done
      </Button>
    </div>
  );
}
