// What lies under the pointer, four times as large, beside it: for narrow places.
import { useEffect, useRef, useState } from "react";
import type { Point, SetDetail } from "../api/client";
import { gridOf } from "../picture/layers";
import { drawPart } from "../picture/sampler";
import { plateKeys } from "../picture/tiles";
import { tileName } from "../picture/views";
import { useView } from "../state/store";

const SIDE = 150;
const TIMES = 4;

export function Magnified({ set, at, page, radius }: { set: SetDetail; at: Point; page: Point; radius: number }) {
  const { view, zoom } = useView();
  const canvas = useRef<HTMLCanvasElement>(null);
  const [there, setThere] = useState(0);
  const scale = (TIMES * zoom) / window.devicePixelRatio;
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    const grid = gridOf(set);
    if (!context || !grid) return;
    const half = SIDE / 2 / scale;
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.fillStyle = "#777";
    context.fillRect(0, 0, SIDE, SIDE);
    context.imageSmoothingEnabled = scale < 2;
    context.setTransform(scale, 0, 0, scale, SIDE / 2 - at.x * scale, SIDE / 2 - at.y * scale);
    const key = view.kind === "frame" ? (set.frame_key ?? "") : (set.plate_key ?? "");
    const keys = view.kind === "plate" ? (plateKeys(set) ?? (() => key)) : () => key;
    const box = { x: at.x - half, y: at.y - half, width: 2 * half, height: 2 * half };
    drawPart(context, { grid, keys, view: tileName(view, set) }, box, scale, () => setThere((n) => n + 1));
    for (const [stroke, width] of [
      ["black", 3],
      ["white", 1.5],
    ] as const) {
      context.beginPath();
      context.arc(at.x, at.y, radius, 0, 2 * Math.PI);
      context.strokeStyle = stroke;
      context.lineWidth = width / scale;
      context.stroke();
    }
  }, [set, at, radius, scale, view, there]);
  return (
    <canvas
      ref={canvas}
      width={SIDE}
      height={SIDE}
      data-testid="magnified"
      className="pointer-events-none absolute outline-2 outline-leaf"
      style={{ left: page.x + (page.x > SIDE + 60 ? -SIDE - 40 : 40), top: Math.max(8, page.y - SIDE / 2) }}
    />
  );
}
