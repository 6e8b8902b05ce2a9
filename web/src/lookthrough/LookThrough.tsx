// The place under the pointer, as each frame saw it, side by side; with nothing pointed at, the frames whole.
import { useEffect, useRef, useState } from "react";
import { api, thumbnail, type Look, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { frameNumber, isLaid } from "../picture/names";
import { useView } from "../picture/view";
import { clock, methodTitle } from "../ui/words";
import { asideLabel } from "../sheet/FramesLine";

const methods = ["consensus", "median", "mean", "darkest", "lightest"];
const HEIGHT = 88;

/** Width of a crop such that all fit side by side, as long as that leaves enough to see. */
function useCropWidth(count: number) {
  const row = useRef<HTMLOListElement>(null);
  const [width, setWidth] = useState(132);
  useEffect(() => {
    const list = row.current;
    if (!list) return;
    const fit = () => setWidth(Math.round(Math.min(140, Math.max(72, (list.clientWidth - 24) / Math.max(count, 1) - 6))));
    fit();
    const watch = new ResizeObserver(fit);
    watch.observe(list);
    return () => watch.disconnect();
  }, [count]);
  return { row, width };
}

/** Crops of the place, asked for one at a time so that the last wish is always served next. */
function useLook(set: SetDetail, width: number): Look | null {
  const { pointer, pinned, zoom, byMethod } = useView();
  const place = pinned ?? pointer;
  const [look, setLook] = useState<Look | null>(null);
  const busy = useRef(false);
  const next = useRef<string | null>(null);
  const ready = set.canvas != null;
  const level = Math.max(0, Math.round(Math.log2(1 / Math.max(zoom, 0.01))));
  const query = place && ready ? `x=${place.x.toFixed(1)}&y=${place.y.toFixed(1)}&level=${level}&width=${width}&height=${HEIGHT}&methods=${byMethod}` : null;
  const key = set.plate_key;
  useEffect(() => {
    const stop = new AbortController();
    const run = async () => {
      if (busy.current) return;
      busy.current = true;
      while (next.current) {
        const wanted = next.current;
        try {
          const found = await api.look(set.id, wanted, stop.signal);
          if (next.current) setLook(found);
        } catch {
          break; // the set is changing; its new state brings a new wish
        }
        if (next.current === wanted) break;
      }
      busy.current = false;
    };
    next.current = query;
    if (query) void run();
    return () => {
      next.current = null;
    };
  }, [query, key, set.id]);
  return query ? look : null;
}

export function LookThrough({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { view, byMethod, pinned, set: put } = useView();
  const { row, width } = useCropWidth(byMethod ? methods.length : set.frames.length);
  const look = useLook(set, width);
  const shown = look && ((byMethod ? look.crops.length === methods.length : look.crops.length !== methods.length || set.frames.length === methods.length)) ? look : null;
  return (
    <section aria-label="Look-through" className="flex h-[150px] shrink-0 flex-col border-t border-rule bg-sheet">
      <div className="flex items-center gap-3 px-3 pt-1 text-sm">
        <span className="font-semibold">{byMethod ? "This place by every method" : shown ? "This place in every frame" : "Frames"}</span>
        <span className="text-faint">
          {shown?.origin && !byMethod ? <span className="num mr-3 text-ink" data-testid="origin">{originWords(set, shown.origin)}</span> : null}
          {pinned ? "Kept in place; Esc lets go" : shown ? "Click the picture to keep the place" : "Point at the picture to look at one place in all of them"}
        </span>
        <span className="grow" />
        <button className="px-2 aria-pressed:bg-ink aria-pressed:text-leaf" aria-pressed={byMethod} onClick={() => put({ byMethod: !byMethod })}>
          By method
        </button>
      </div>
      <ol ref={row} className="flex grow gap-1.5 overflow-x-auto px-3 py-1" data-testid="crops">
        {byMethod
          ? methods.map((m, k) => (
              <li key={m} className="shrink-0">
                <button className="block text-left" disabled={!set.canvas} onClick={() => open.change(`combine by ${m}`, { method: m })}>
                  <Crop look={shown} width={width} at={k} outline={set.recipe.method === m ? "solid" : "none"} />
                  <span className={`text-sm ${set.recipe.method === m ? "font-semibold" : ""}`}>{methodTitle(m)}</span>
                </button>
              </li>
            ))
          : set.frames.map((f, n) => {
              const at = shown?.crops.findIndex((c) => c.index === f.index) ?? -1;
              const agrees = at >= 0 ? shown?.crops[at]?.agrees : undefined;
              const name = `frame-${f.index}`;
              const out = !f.used;
              return (
                <li key={f.id} className={`group relative shrink-0 ${out ? "opacity-50" : ""}`} data-frame={n + 1} data-agrees={agrees ?? "none"}>
                  <button
                    className="block text-left"
                    title={agrees == null ? undefined : agrees ? "Shows the same as the plate here" : "Shows something else than the plate here"}
                    disabled={!isLaid(f)}
                    onClick={() => put({ view: view === name ? "plate" : name, flicking: false })}
                  >
                    {at >= 0 && shown ? (
                      <Crop look={shown} width={width} at={at} outline={agrees == null ? "none" : agrees ? "solid" : "dashed"} />
                    ) : f.state === "ready" ? (
                      <img src={thumbnail(set.id, f.id, 200)} alt="" style={{ width, height: HEIGHT }} className="object-cover" />
                    ) : (
                      <div style={{ width, height: HEIGHT }} className={f.state === "failed" ? "bg-rule" : "skeleton"} />
                    )}
                    <span className={`num ${view === name ? "bg-ink text-leaf" : ""}`}>
                      {n + 1} {f.state === "failed" ? "unreadable" : width < 100 && f.time ? clock(f.time).slice(3) : clock(f.time)}
                    </span>
                  </button>
                  {f.index != null && (
                    <button
                      className="absolute top-1 right-1 bg-leaf px-1.5 text-[13px] opacity-0 group-hover:opacity-100 focus:opacity-100"
                      onClick={() => open.change(asideLabel(n + 1, f.set_aside), { used: set.recipe.used.map((u, i) => (i === f.index ? f.set_aside : u)) })}
                    >
                      {f.set_aside ? "Bring back" : "Set aside"}
                    </button>
                  )}
                </li>
              );
            })}
      </ol>
    </section>
  );
}

/** Where the plate's pixel comes from, for example "5 of 9 moments, from frames 2, 4, 8". */
function originWords(set: SetDetail, origin: NonNullable<Look["origin"]>): string {
  const numbers = origin.frames.map((f) => frameNumber(set, f)).sort((a, b) => a - b);
  if (origin.frames.length === 1) {
    const only = set.frames.find((f) => f.index === origin.frames[0]);
    return `Taken from frame ${numbers[0]} alone${only?.time ? `, ${clock(only.time)}` : ""}`;
  }
  return `${origin.agree} of ${origin.moments} moments, from ${origin.frames.length === set.frames.length ? "all frames" : `frames ${numbers.join(", ")}`}`;
}

function Crop({ look, width, at, outline }: { look: Look | null; width: number; at: number; outline: "solid" | "dashed" | "none" }) {
  const border = { solid: "border-2 border-solid border-verdigris", dashed: "border-2 border-dashed border-persimmon", none: "border-2 border-transparent" }[outline];
  return (
    <div className={`box-border ${border}`} style={{ width, height: HEIGHT }}>
      <div
        className={`h-full w-full ${look ? "" : "bg-rule"}`}
        style={look ? { backgroundImage: `url(${look.strip})`, backgroundPosition: `${-at * look.width - 2}px -2px`, backgroundRepeat: "no-repeat" } : undefined}
      />
    </div>
  );
}
