// How one frame fits: its verdict, how it was moved, the place where most is left as a pair of crops, and what can be done.
import { useQuery } from "@tanstack/react-query";
import { api, type Frame, type SetDetail } from "../api/client";
import { frameNumber } from "../picture/names";
import { useView } from "../state/store";
import { difference, frameView, plate } from "../picture/views";
import { Button } from "../ui/controls";
import { movement } from "../ui/words";

export function FitReport({ set, frame: f }: { set: SetDetail; frame: Frame }) {
  const { rests, set: put } = useView();
  const isReference = f.id === set.reference;
  const fit = useQuery({
    queryKey: ["fit", set.id, f.id, set.frame_key],
    queryFn: () => api.fit(set.id, f.id),
    enabled: set.canvas != null,
  }).data;
  const at = fit?.worst;
  const n = frameNumber(set, f.id);
  return (
    <div className="bg-leaf px-2 py-2 text-[14px]" data-testid="fit-report">
      <div>
        <span className={`font-semibold ${f.doubtful ? "text-persimmon" : "text-verdigris"}`}>
          {f.doubtful ? "▸ " : ""}
          {isReference ? "reference" : f.verdict}
        </span>
        {!isReference && f.reason && <span>: {f.reason}</span>}
      </div>
      {!isReference && !f.reason && <div className="text-faint">{movement(f)}</div>}
      {fit && !isReference && !f.reason && (
        <div className="text-faint">
          {fit.points.length} places lead, {fit.refused.length} moved otherwise
          {f.worst_px != null && `; ${f.worst_px.toFixed(2)} px at most`}
        </div>
      )}
      {at && set.reference != null && (
        <div className="mt-1 flex gap-1">
          {[set.reference, f.id].map((i) => (
            <figure key={i}>
              <WorstCrop set={set} frame={i} x={at[0] ?? 0} y={at[1] ?? 0} />
              <figcaption className="text-[13px] text-faint">
                {i === f.id ? `frame ${n} there` : "reference, worst place"}
              </figcaption>
            </figure>
          ))}
        </div>
      )}
      <div className="mt-1.5 flex flex-wrap gap-2">
        <Button
          aria-pressed={rests}
          className="aria-pressed:bg-ink aria-pressed:text-leaf"
          onClick={() => put({ rests: !rests, view: f.reason ? plate : frameView(f.id) })}
        >
          Show places
        </Button>
        {!isReference && (
          <>
            <Button onClick={() => put({ view: difference(f.id), flicking: false })} disabled={!!f.reason}>
              Difference
            </Button>
            <Button
              onClick={() =>
                put({
                  hand: f.id,
                  sheet: false,
                  ...(f.reason
                    ? { pairing: true }
                    : {
                        view: set.reference == null ? plate : frameView(set.reference),
                        other: frameView(f.id),
                        compare: "through",
                      }),
                })
              }
            >
              Lay by hand
            </Button>
          </>
        )}
      </div>
    </div>
  );
}

/** A crop of one frame's tile around a place, twice as large as it is. */
function WorstCrop({ set, frame, x, y }: { set: SetDetail; frame: number; x: number; y: number }) {
  const tile = set.canvas?.tile ?? 512;
  const [w, h] = [128, 84];
  const clampTo = (v: number, side: number, all: number) =>
    Math.min(Math.max(v - side / 4, 0), Math.max(all - side / 2, 0));
  const [left, top] = [clampTo(x, w, set.canvas?.width ?? 0), clampTo(y, h, set.canvas?.height ?? 0)];
  const [tx, ty] = [Math.floor(left / tile), Math.floor(top / tile)];
  const tiles = [0, 1]
    .flatMap((j) => [0, 1].map((i) => [tx + i, ty + j] as const))
    .filter(
      ([i, j]) =>
        i * tile < Math.min(left + w / 2, set.canvas?.width ?? 0) &&
        j * tile < Math.min(top + h / 2, set.canvas?.height ?? 0),
    );
  return (
    <div className="relative overflow-hidden bg-[#777]" style={{ width: w, height: h }}>
      {tiles.map(([i, j]) => (
        <img
          key={`${i}-${j}`}
          src={`/api/sets/${set.id}/tiles/${set.frame_key}/frame-${frame}/0/${i}_${j}.jpg`}
          alt=""
          className="absolute max-w-none origin-top-left [image-rendering:pixelated]"
          style={{ left: 2 * (i * tile - left), top: 2 * (j * tile - top), transform: "scale(2)" }}
        />
      ))}
    </div>
  );
}
