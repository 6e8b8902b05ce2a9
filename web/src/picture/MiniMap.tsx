// A small map of the plate with the part that is on the picture; only while not all of it is.
import { useRef } from "react";
import type { SetDetail } from "../api/client";
import { useLater } from "../ui/useLater";
import { useView } from "../state/store";
import { camera } from "./camera";

interface Props {
  set: SetDetail;
  bounds: { x: number; y: number; width: number; height: number };
  width: number;
  height: number;
}

export function MiniMap({ set, bounds, width, height }: Props) {
  const { zoom, hand } = useView();
  const key = useLater(set.plate_key);
  const box = useRef<HTMLDivElement>(null);
  const all =
    bounds.x <= 1 && bounds.y <= 1 && bounds.x + bounds.width >= width - 1 && bounds.y + bounds.height >= height - 1;
  if (all || hand !== null || !width || !set.plate_key) return null;
  const part = (v: number, of: number) => `${Math.min(100, Math.max(0, (v / of) * 100))}%`;
  const goTo = (e: React.PointerEvent) => {
    const rect = box.current?.getBoundingClientRect();
    if (!rect || e.buttons !== 1) return;
    const x = ((e.clientX - rect.left) / rect.width) * width - (bounds.x + bounds.width / 2);
    const y = ((e.clientY - rect.top) / rect.height) * height - (bounds.y + bounds.height / 2);
    const scale = zoom / window.devicePixelRatio;
    camera.panBy(x * scale, y * scale);
  };
  return (
    <div
      ref={box}
      data-own
      aria-label="Overview map"
      className="absolute right-2 bottom-2 w-40 touch-none border border-black/70 bg-[#777]"
      style={{ aspectRatio: `${width} / ${height}` }}
      onPointerDown={(e) => {
        e.stopPropagation();
        goTo(e);
      }}
      onPointerMove={goTo}
    >
      <img
        src={`/api/sets/${set.id}/cover?side=320&v=${key ?? set.plate_key}`}
        alt=""
        draggable={false}
        className="h-full w-full opacity-80"
      />
      <div
        className="absolute border-2 border-white outline outline-1 outline-black"
        style={{
          left: part(bounds.x, width),
          top: part(bounds.y, height),
          right: part(width - bounds.x - bounds.width, width),
          bottom: part(height - bounds.y - bounds.height, height),
        }}
      />
    </div>
  );
}
