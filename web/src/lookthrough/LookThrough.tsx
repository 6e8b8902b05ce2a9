// The place under the pointer, as each frame saw it, side by side; with nothing pointed at, the frames whole.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import {
  api,
  thumbnail,
  type Frame,
  type PatchInfo,
  type LookThrough,
  type Proposal,
  type SetDetail,
} from "../api/client";
import type { OpenSet } from "../api/useSet";
import { frameNumber, isLaid } from "../picture/names";
import { touchWords } from "../touches/touches";
import { useView } from "../state/store";
import { frameView, plate, shownFrame, viewOf, wordOf } from "../picture/views";
import { useLater } from "../ui/useLater";
import { clock, methodTitle } from "../ui/words";
import { asideLabel, setAside } from "../frames/aside";
import { boxOf, nextBest, sourceWords, takeLoop, takePlace, tryPlace, worth } from "../patches/patches";
import { goTo, nextOpen, settle, useDoubts } from "../doubts/doubts";

const methods = ["consensus", "median", "clipped", "mean", "darkest", "lightest", "everybody"];
const HEIGHT = 88;

/** Width of a crop such that all fit side by side, as long as that leaves enough to see. */
function useCropWidth(count: number) {
  const row = useRef<HTMLOListElement>(null);
  const [width, setWidth] = useState(132);
  useEffect(() => {
    const list = row.current;
    if (!list) return;
    const fit = () =>
      setWidth(Math.round(Math.min(140, Math.max(60, (list.clientWidth - 24) / Math.max(count, 1) - 6))));
    fit();
    const watch = new ResizeObserver(fit);
    watch.observe(list);
    return () => watch.disconnect();
  }, [count]);
  return { row, width };
}

/** Crops of the place, asked for one at a time so that the last wish is always served next. */
function useLook(set: SetDetail, width: number): LookThrough | null {
  const { pointer, pinned, zoom, byMethod, loop } = useView();
  const place = pinned ?? pointer;
  const [look, setLook] = useState<LookThrough | null>(null);
  const busy = useRef(false);
  const next = useRef<string | null>(null);
  const ready = set.canvas != null;
  // At the picture's own scale, methods at 100 %; but a loop is shown whole.
  const box = loop && boxOf(loop);
  const own = byMethod ? 0 : Math.round(Math.log2(1 / Math.max(zoom, 0.01)));
  const level = Math.max(
    0,
    own,
    box ? Math.ceil(Math.log2(Math.max((1.2 * box.width) / width, (1.2 * box.height) / HEIGHT))) : 0,
  );
  const spot = box && {
    spot_width: Math.max(4, Math.round(box.width / 2 ** level)),
    spot_height: Math.max(4, Math.round(box.height / 2 ** level)),
  };
  const tenth = (v: number) => Math.round(10 * v) / 10;
  const query =
    place && ready
      ? JSON.stringify({
          x: tenth(place.x),
          y: tenth(place.y),
          level,
          width,
          height: HEIGHT,
          methods: byMethod,
          ...spot,
        })
      : null;
  const key = set.plate_key;
  useEffect(() => {
    const stop = new AbortController();
    const run = async () => {
      if (busy.current) return;
      busy.current = true;
      while (next.current) {
        const wanted = next.current;
        try {
          const found = await api.look(set.id, JSON.parse(wanted) as Parameters<typeof api.look>[1], stop.signal);
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

/** What taking the open place from the frame that is pointed at would do. */
function useTold(set: SetDetail): PatchInfo | null {
  const { loop, pinned, peek } = useView();
  const asked = peek != null && (loop ?? pinned) != null;
  const told = useQuery({
    queryKey: ["told", set.id, set.plate_key, loop, pinned, peek],
    queryFn: ({ signal }) => tryPlace(set, loop, pinned, peek ?? 0, signal),
    enabled: asked,
    gcTime: 10_000,
  }).data;
  if (!asked || !told) return null;
  return { ...told, words: `From frame ${frameNumber(set, peek)}: ${lower(told.words)}` };
}

/** Asks for the frames that a place which is kept is best taken from before they are wanted, once nothing else is asked for. */
function useForesight(set: SetDetail) {
  const { loop, pinned, tries } = useView();
  const place = loop ?? pinned;
  const now =
    place && set.plate_key != null && !set.draft && tries?.place !== JSON.stringify([set.id, place])
      ? JSON.stringify([set.plate_key, place])
      : null;
  const rested = useLater(now, 400);
  const wanted = rested != null && rested === now;
  useEffect(() => {
    // What goes wrong is told when it is wanted.
    if (wanted) worth(set, loop, pinned).catch(() => {});
  }, [wanted, set, loop, pinned]);
}

export function LookThrough({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { view, byMethod, pinned, loop, doubt, clearest, drawing, giving, tries, set: put } = useView();
  const doubts = useDoubts(set);
  const { row, width } = useCropWidth(byMethod ? methods.length : set.frames.length);
  const look = useLook(set, width);
  const shown =
    look &&
    (byMethod
      ? look.crops.length === methods.length
      : look.crops.length !== methods.length || set.frames.length === methods.length)
      ? look
      : null;
  const crop = (f: Frame) => shown?.crops.find((c) => c.frame === f.id);
  const frames = set.frames.map((f, n) => ({ f, n }));
  if (clearest && shown && !byMethod) frames.sort((a, b) => (crop(b.f)?.share ?? -1) - (crop(a.f)?.share ?? -1));
  const opened = doubt == null ? undefined : doubts?.[doubt];
  const kept = pinned != null || loop != null;
  const take = (frame: number) => {
    // A loop drawn within a doubt takes that part alone.
    if (opened && doubts && doubt != null && !loop) {
      settle(open, set, opened, frame);
      goTo(doubts, nextOpen(doubts, doubt, 1));
    } else void takePlace(open, set, frame);
  };
  useForesight(set);
  const told =
    useTold(set) ?? (tries?.place === JSON.stringify([set.id, loop ?? pinned]) ? triedWords(set, tries) : null);
  const draw = (how: "loop" | "brush", giving = false) =>
    put({
      drawing: how,
      giving,
      taking: giving ? null : shownFrame(view),
      sheet: false,
      flicking: false,
      ...(giving || shownFrame(view) == null ? { view: plate } : {}),
    });
  const press = (f: Frame) => {
    if (kept && f.used) take(f.id);
    else put({ view: shownFrame(view) === f.id ? plate : frameView(f.id), flicking: false });
  };
  return (
    <section aria-label="Look-through" className="flex h-[150px] shrink-0 flex-col border-t border-rule bg-sheet">
      <div className="flex items-center gap-3 px-3 pt-1 text-sm whitespace-nowrap">
        <span className="font-semibold">
          {byMethod ? "This place by every method" : shown ? "This place in every frame" : "Frames"}
        </span>
        <span className="truncate text-faint">
          {shown?.origin && !byMethod && !told ? (
            <span className="num mr-3 text-ink" data-testid="origin" title={originWords(set, shown.origin)}>
              {originWords(set, shown.origin)}
            </span>
          ) : null}
          {told ? (
            <span className={told.warns ? "text-persimmon" : "text-ink"} data-testid="told">
              {told.words}
            </span>
          ) : byMethod && loop ? (
            "Press a method to lay the loop by it; Esc lets go"
          ) : byMethod ? (
            "Press a method to combine the whole picture by it"
          ) : kept ? (
            "Press a crop or its number to take the place from that frame; Esc lets go"
          ) : shown ? (
            "Click the picture to keep the place"
          ) : (
            "Point at the picture to look at one place in all of them"
          )}
        </span>
        <span className="grow" />
        <button
          className="px-2 disabled:opacity-45"
          disabled={!kept}
          title="Takes the place from the frame that most surely leaves it clear; again: from the next (N)"
          onClick={() => void nextBest(open, set)}
        >
          {tries?.place === JSON.stringify([set.id, loop ?? pinned]) ? "Next best" : "Take the best"}
        </button>
        <button
          className="px-2 aria-pressed:bg-ink aria-pressed:text-leaf"
          aria-pressed={drawing === "loop" && !giving}
          disabled={!set.canvas}
          onClick={() => draw("loop")}
        >
          Loop
        </button>
        <button
          className="px-2 aria-pressed:bg-ink aria-pressed:text-leaf"
          aria-pressed={drawing === "brush" && !giving}
          disabled={!set.canvas}
          onClick={() => draw("brush")}
        >
          Brush
        </button>
        <button
          className="px-2 aria-pressed:bg-ink aria-pressed:text-leaf"
          aria-pressed={giving}
          disabled={!set.canvas}
          title="Gives back what is drawn around or brushed over (U)"
          onClick={() =>
            giving ? put({ giving: false, drawing: null }) : draw(drawing === "brush" ? "brush" : "loop", true)
          }
        >
          Give back
        </button>
        <button
          className="px-2 aria-pressed:bg-ink aria-pressed:text-leaf"
          aria-pressed={clearest}
          onClick={() => put({ clearest: !clearest })}
        >
          Clearest first
        </button>
        <button
          className="px-2 aria-pressed:bg-ink aria-pressed:text-leaf"
          aria-pressed={byMethod}
          onClick={() => put({ byMethod: !byMethod })}
        >
          By method
        </button>
      </div>
      <ol ref={row} className="flex grow gap-1.5 overflow-x-auto px-3 py-1" data-testid="crops">
        {byMethod
          ? methods.map((m, k) => (
              <li key={m} className="shrink-0">
                <button
                  className="block text-left"
                  disabled={!set.canvas}
                  title={loop ? "Lays the loop by this method" : "Combines the whole picture by this method"}
                  onClick={() =>
                    loop ? takeLoop(open, set, loop, { method: m }) : open.change(`combine by ${m}`, { method: m })
                  }
                >
                  <Crop look={shown} width={width} at={k} outline={set.recipe.method === m ? "solid" : "none"} />
                  <span className={`text-sm ${set.recipe.method === m ? "font-semibold" : ""}`}>{methodTitle(m)}</span>
                </button>
              </li>
            ))
          : frames.map(({ f, n }) => {
              const at = shown?.crops.findIndex((c) => c.frame === f.id) ?? -1;
              const agrees = at >= 0 ? shown?.crops[at]?.agrees : undefined;
              const out = !f.used;
              return (
                <li
                  key={f.id}
                  className={`group relative shrink-0 ${out ? "opacity-50" : ""}`}
                  data-frame={n + 1}
                  data-agrees={agrees ?? "none"}
                  draggable={isLaid(f)}
                  onDragStart={(e) => e.dataTransfer.setData("text/evanu-view", wordOf(frameView(f.id)))}
                  onDragOver={(e) => e.dataTransfer.types.includes("text/evanu-view") && e.preventDefault()}
                  onDrop={(e) => {
                    // One crop dropped on another: both on the picture, with the divider between them.
                    const other = e.dataTransfer.getData("text/evanu-view");
                    if (other && other !== wordOf(frameView(f.id)))
                      put({ view: viewOf(other), other: frameView(f.id), compare: "divide", flicking: false });
                  }}
                  onPointerEnter={() => kept && isLaid(f) && put({ peek: f.id })}
                  onPointerLeave={() => put({ peek: null })}
                >
                  <button
                    className="block text-left"
                    title={`${agrees == null ? "" : agrees ? "Shows the same as the plate here. " : "Shows something else than the plate here. "}${kept ? "Press to take the place from this frame; drag onto another crop to compare the two." : "Press to show the frame."}`}
                    disabled={!isLaid(f)}
                    onClick={() => press(f)}
                  >
                    {at >= 0 && shown ? (
                      <Crop
                        look={shown}
                        width={width}
                        at={at}
                        outline={agrees == null ? "none" : agrees ? "solid" : "dashed"}
                      />
                    ) : f.state === "ready" ? (
                      <img
                        src={thumbnail(set, f.id, 200)}
                        alt=""
                        style={{ width, height: HEIGHT }}
                        className="object-cover"
                      />
                    ) : (
                      <div
                        style={{ width, height: HEIGHT }}
                        className={f.state === "failed" ? "bg-rule" : "skeleton"}
                      />
                    )}
                    <span
                      className={`num block truncate ${shownFrame(view) === f.id ? "bg-ink text-leaf" : ""}`}
                      style={{ width }}
                    >
                      {n + 1}{" "}
                      {f.state === "failed"
                        ? "unreadable"
                        : width < 100 && f.time
                          ? clock(f.time).slice(3)
                          : clock(f.time)}
                    </span>
                  </button>
                  {f.joined && (
                    <button
                      className="absolute top-1 right-1 bg-leaf px-1.5 text-[13px] opacity-0 group-hover:opacity-100 focus:opacity-100"
                      onClick={() =>
                        open.change(asideLabel(n + 1, f.set_aside), setAside(set.recipe, [f.id], !f.set_aside))
                      }
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

/** Which of the proposed frames the place was taken from, and what that does. */
function triedWords(set: SetDetail, { list, at }: { list: Proposal[]; at: number }): PatchInfo | null {
  const tried = list[at];
  return tried
    ? {
        ...tried.told,
        words: `Frame ${frameNumber(set, tried.frame)}, ${at + 1} of ${list.length}: ${lower(tried.told.words)}`,
      }
    : null;
}

const lower = (words: string) => words.charAt(0).toLowerCase() + words.slice(1);

/** Where the plate's pixel comes from, for example "5 of 9 moments, from frames 2, 4, 8". */
function originWords(set: SetDetail, origin: NonNullable<LookThrough["origin"]>): string {
  if (origin.touch != null) {
    const touch = set.recipe.touches[origin.touch];
    return touch ? `Retouched by you: ${touchWords(touch)}` : "";
  }
  if (origin.patch != null) {
    const lift = set.recipe.patches?.[origin.patch];
    return lift ? `Taken by you: ${sourceWords(set, lift.source)}` : "";
  }
  const numbers = origin.frames.map((f) => frameNumber(set, f)).sort((a, b) => a - b);
  if (origin.frames.length === 1) {
    const only = set.frames.find((f) => f.id === origin.frames[0]);
    return `Taken from frame ${numbers[0]} alone${only?.time ? `, ${clock(only.time)}` : ""}`;
  }
  // Said the shorter way.
  const others = set.frames.map((_, k) => k + 1).filter((n) => !numbers.includes(n));
  const which = !others.length
    ? "from all frames"
    : others.length <= 3 && others.length < numbers.length
      ? `all but ${others.join(", ")}`
      : `from frames ${numbers.join(", ")}`;
  return `${origin.agree} of ${origin.moments} moments, ${which}`;
}

function Crop({
  look,
  width,
  at,
  outline,
}: {
  look: LookThrough | null;
  width: number;
  at: number;
  outline: "solid" | "dashed" | "none";
}) {
  const border = {
    solid: "border-2 border-solid border-verdigris",
    dashed: "border-2 border-dashed border-persimmon",
    none: "border-2 border-transparent",
  }[outline];
  return (
    <div className={`box-border ${border}`} style={{ width, height: HEIGHT }}>
      <div
        className={`h-full w-full ${look ? "" : "bg-rule"}`}
        style={
          look
            ? {
                backgroundImage: `url(${look.strip})`,
                backgroundPosition: `${-at * look.width - 2}px -2px`,
                backgroundRepeat: "no-repeat",
              }
            : undefined
        }
      />
    </div>
  );
}
