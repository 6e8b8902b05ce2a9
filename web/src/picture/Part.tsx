// A part of the plate as a small picture of its own.
import { useEffect, useRef, useState } from "react";
import type { SetDetail } from "../api/client";
import { gridOf } from "./layers";
import { drawPart } from "./sampler";
import { plateKeys } from "./tiles";

/** The place with a little around it. */
export function PartPicture({
  set,
  place,
  width,
  height,
}: {
  set: SetDetail;
  place: { x: number; y: number; width: number; height: number };
  width: number;
  height: number;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [there, setThere] = useState(0);
  const { x, y, width: wide, height: high } = place;
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    const grid = gridOf(set);
    if (!context || !grid || !set.plate_key) return;
    const dots = window.devicePixelRatio;
    const zoom = Math.min(1, width / (1.3 * wide), height / (1.3 * high));
    const box = { x: x + wide / 2 - width / zoom / 2, y: y + high / 2 - height / zoom / 2 };
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.clearRect(0, 0, width * dots, height * dots);
    context.setTransform(zoom * dots, 0, 0, zoom * dots, -box.x * zoom * dots, -box.y * zoom * dots);
    const key = set.plate_key;
    const shown = { grid, keys: plateKeys(set) ?? (() => key), view: "plate" };
    drawPart(context, shown, { ...box, width: width / zoom, height: height / zoom }, zoom * dots, () =>
      setThere((n) => n + 1),
    );
  }, [set, x, y, wide, high, width, height, there]);
  const dots = window.devicePixelRatio;
  return (
    <canvas
      ref={canvas}
      width={width * dots}
      height={height * dots}
      style={{ width, height }}
      className="shrink-0 bg-rule"
    />
  );
}
