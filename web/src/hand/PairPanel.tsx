// Naming the same place in the reference and in a frame: two pictures side by side, a place in each makes a pair.
import OpenSeadragon from "openseadragon";
import { useEffect, useRef, useState } from "react";
import type { ManualAlignment, Point, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { source } from "../picture/layers";
import { frameNumber } from "../picture/names";
import { useView } from "../state/store";
import { Button } from "../ui/controls";
import { left, withHand } from "./hands";

export function PairPanel({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { hand: index, set: put } = useView();
  const [first, setFirst] = useState<Point | null>(null);
  const frame = set.frames.find((f) => f.id === index);
  const reference = set.frames.find((f) => f.id === set.reference);
  if (index == null || !frame || !reference || set.reference == null) return null;
  const hand: ManualAlignment = set.recipe.manual_alignments.find((h) => h.frame === index) ?? {
    frame: index,
    on: set.reference,
    pairs: [],
    shift: [0, 0],
    turn: 0,
    scale: 1,
    snap: false,
  };
  const n = frameNumber(set, index);
  const off = left(hand.pairs);
  const worst = Math.max(0, ...off);
  const save = (label: string, pairs: ManualAlignment["pairs"]) =>
    open.change(`${label} frame ${n}`, {
      manual_alignments: withHand(set.recipe.manual_alignments, {
        ...hand,
        on: set.reference ?? 0,
        pairs,
        shift: [0, 0],
        turn: 0,
        scale: 1,
        snap: false,
      }),
    });
  const named = (p: Point, ofReference: boolean) => {
    if (ofReference) setFirst(p);
    else if (first) {
      void save("name a pair for", [...hand.pairs, { from: p, to: first }]);
      setFirst(null);
    }
  };
  return (
    <div data-own data-testid="pairs" className="absolute inset-0 z-30 flex flex-col bg-sheet">
      <div className="flex items-center gap-3 border-b border-rule px-3 py-1.5 text-[14px]">
        <span className="font-semibold">Pairs for frame {n}</span>
        <span className={first ? "" : "text-persimmon"}>
          {first
            ? `▸ Now the same place in frame ${n}, right`
            : `▸ ${hand.pairs.length ? "Another" : "A"} place in the reference, left`}
        </span>
        <span className="text-faint" data-testid="pairs-fact">
          {[
            "none yet: one shifts, two turn and zoom, four give perspective",
            "1 pair: shifts",
            "2 pairs: shift, turn and zoom",
            "3 pairs",
          ][hand.pairs.length] ?? `${hand.pairs.length} pairs`}
          {hand.pairs.length > 2 && `, ${worst.toFixed(1)} px off at most`}
        </span>
        <span className="grow" />
        {hand.pairs.length > 0 && (
          <button
            className="underline"
            onClick={() => {
              setFirst(null);
              void save("take back a pair of", hand.pairs.slice(0, -1));
            }}
          >
            Take the last one back
          </button>
        )}
        <Button strong onClick={() => put({ pairing: false })}>
          Done
        </Button>
      </div>
      <div className="flex min-h-0 grow gap-1 bg-[#777]">
        <Pane
          set={set}
          frame={reference.id}
          title="Reference"
          size={[reference.width, reference.height]}
          marks={[...hand.pairs.map((p) => p.to), ...(first ? [first] : [])]}
          named={(p) => named(p, true)}
        />
        <Pane
          set={set}
          frame={index}
          title={`Frame ${n} as shot`}
          size={[frame.width, frame.height]}
          marks={hand.pairs.map((p) => p.from)}
          named={(p) => named(p, false)}
        />
      </div>
    </div>
  );
}

interface PaneProps {
  set: SetDetail;
  frame: number;
  title: string;
  size: [number, number];
  marks: Point[];
  named: (p: Point) => void;
}

/** One frame on its own pixels: pan, zoom, and a click that names a place. */
function Pane({ set, frame, title, size: [width, height], marks, named }: PaneProps) {
  const box = useRef<HTMLDivElement>(null);
  const [bounds, setBounds] = useState({ x: 0, y: 0, width, height });
  const tile = set.canvas?.tile ?? 512;
  const act = useRef(named);
  const key = useRef(set.frame_key ?? "");
  useEffect(() => {
    act.current = named;
    key.current = set.frame_key ?? "";
  });
  useEffect(() => {
    if (!box.current) return;
    const levels = Math.max(1, Math.ceil(Math.log2(Math.max(width, height) / 64)) + 1);
    const viewer = new OpenSeadragon.Viewer({
      element: box.current,
      showNavigationControl: false,
      drawer: "canvas",
      immediateRender: true,
      maxZoomPixelRatio: 16,
      gestureSettingsMouse: { clickToZoom: false, dblClickToZoom: false, flickEnabled: false },
    });
    // The key changes with every pair; the frame as shot does not.
    const grid = { set: set.id, width, height, levels, tile };
    viewer.addTiledImage({ tileSource: source(grid, () => key.current, `shot-${frame}`) });
    const image = () => viewer.world.getItemAt(0);
    viewer.addHandler("update-viewport", () => {
      const b = image()?.viewportToImageRectangle(viewer.viewport.getBounds(true));
      if (b) setBounds({ x: b.x, y: b.y, width: b.width, height: b.height });
    });
    viewer.addHandler("canvas-click", (e) => {
      const p = e.quick ? image()?.viewerElementToImageCoordinates(e.position) : null;
      if (p && p.x >= 0 && p.y >= 0 && p.x < width && p.y < height) act.current({ x: p.x - 0.5, y: p.y - 0.5 });
    });
    viewer.addHandler("canvas-key", (e) => {
      (e as { preventDefaultAction?: boolean }).preventDefaultAction = true;
    });
    return () => viewer.destroy();
  }, [set.id, frame, width, height, tile]);
  const size = bounds.width / 500;
  return (
    <div className="relative min-w-0 grow basis-0" data-testid={`pane-${frame}`}>
      <div ref={box} className="absolute inset-0" />
      <svg
        viewBox={`${bounds.x} ${bounds.y} ${bounds.width} ${bounds.height}`}
        preserveAspectRatio="none"
        className="pointer-events-none absolute inset-0 h-full w-full"
      >
        {marks.map((p, k) => (
          <g key={k} transform={`translate(${p.x + 0.5} ${p.y + 0.5})`}>
            <path
              d={`M${-9 * size} 0h${18 * size}M0 ${-9 * size}v${18 * size}`}
              stroke="black"
              strokeWidth={3 * size}
            />
            <path
              d={`M${-9 * size} 0h${18 * size}M0 ${-9 * size}v${18 * size}`}
              stroke="white"
              strokeWidth={1.4 * size}
            />
            <text
              x={6 * size}
              y={-5 * size}
              fontSize={14 * size}
              fill="white"
              stroke="black"
              strokeWidth={3 * size}
              paintOrder="stroke"
            >
              {k + 1}
            </text>
          </g>
        ))}
      </svg>
      <div className="pointer-events-none absolute top-2 left-2 bg-leaf px-2 py-0.5 text-sm">{title}</div>
    </div>
  );
}
