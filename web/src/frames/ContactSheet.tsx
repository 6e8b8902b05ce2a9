// All frames on the axis of time: pauses, moments, camera positions, drifting light; choosing several at once.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, thumbnail, type Frame, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { isLaid } from "../picture/names";
import { useView } from "../state/store";
import { frameView } from "../picture/views";
import { Button } from "../ui/controls";
import { tell, tellError } from "../ui/Notices";
import { go } from "../ui/path";
import { clock, exposure, plural } from "../ui/words";
import { setAside } from "./aside";
import { byMoment, pause, places } from "./axis";

export function ContactSheet({ open, set }: { open: OpenSet; set: SetDetail }) {
  const [chosen, setChosen] = useState<number[]>([]);
  const { large, set: put } = useView();
  const setLarge = (id: number | null) => put({ large: id });
  const groups = byMoment(set.frames);
  const toggle = (id: number) => setChosen((now) => (now.includes(id) ? now.filter((n) => n !== id) : [...now, id]));
  const show = (f: Frame) =>
    isLaid(f) ? useView.getState().set({ view: frameView(f.id), sheet: false, flicking: false }) : setLarge(f.id);
  if (large !== null) return <Large set={set} id={large} go={setLarge} />;
  return (
    <div className="flex h-full flex-col bg-sheet" data-testid="contact-sheet">
      <Axis set={set} />
      <ol
        className="flex grow flex-wrap content-start items-start gap-x-3 gap-y-4 overflow-y-auto px-4 py-3"
        aria-label="Contact sheet"
      >
        {groups.map((group) => {
          const first = set.frames.indexOf(group[0]);
          const later = pause(set.frames, first);
          const step = moved(set, first);
          return (
            <li key={group[0]?.id} className="flex items-start gap-3">
              {(later || step) && (
                <div className="flex w-16 flex-col gap-1 border-l-2 border-faint pt-1 pl-1.5 text-[13px] leading-tight text-faint">
                  {later && <span>{later}</span>}
                  {step && <span className="text-ink">{step}</span>}
                </div>
              )}
              <div className={group.length > 1 ? "border-t-2 border-ink pt-1" : "pt-[6px]"}>
                {group.length > 1 && <div className="mb-1 text-[13px]">one moment, {group.length} frames</div>}
                <div className="flex gap-2">
                  {group.map((f) => (
                    <Card
                      key={f.id}
                      set={set}
                      frame={f}
                      chosen={chosen.includes(f.id)}
                      toggle={() => toggle(f.id)}
                      show={() => show(f)}
                    />
                  ))}
                </div>
              </div>
            </li>
          );
        })}
      </ol>
      <Acts
        open={open}
        set={set}
        chosen={chosen}
        clear={() => setChosen([])}
        all={() => setChosen(set.frames.map((f) => f.id))}
      />
    </div>
  );
}

/** A new camera position that begins at a frame, when the set was on a tripod. */
function moved(set: SetDetail, k: number): string | null {
  const [before, now] = [set.frames[k - 1], set.frames[k]];
  const fits = set.frames.filter(isLaid).length;
  if (
    !before ||
    !now ||
    set.positions < 2 ||
    2 * set.positions > fits ||
    before.camera_position === now.camera_position
  )
    return null;
  return "camera moved";
}

function Card({
  set,
  frame: f,
  chosen,
  toggle,
  show,
}: {
  set: SetDetail;
  frame: Frame;
  chosen: boolean;
  toggle: () => void;
  show: () => void;
}) {
  const n = set.frames.indexOf(f) + 1;
  const worry = f.reason ?? f.findings.find((one) => one.matters)?.text;
  const more = f.findings.filter((one) => !one.matters).map((one) => one.text);
  return (
    <article className={`w-[186px] ${f.used || f.state !== "ready" ? "" : "opacity-60"}`} data-testid={`card-${n}`}>
      <button
        className="block w-full"
        aria-label={`Show frame ${n}`}
        disabled={f.state !== "ready"}
        onClick={show}
        onDoubleClick={show}
      >
        {f.state === "ready" ? (
          <img
            src={thumbnail(set, f.id, 320)}
            alt=""
            loading="lazy"
            className={`aspect-[3/2] w-full bg-[#777] object-contain ${chosen ? "outline-3 outline-ink" : ""}`}
          />
        ) : (
          <div className={`aspect-[3/2] w-full ${f.state === "failed" ? "bg-rule" : "skeleton"}`} />
        )}
      </button>
      <label className="mt-1 flex items-baseline gap-1.5">
        <input
          type="checkbox"
          className="accent-ink"
          aria-label={`Choose frame ${n}`}
          checked={chosen}
          onChange={toggle}
        />
        <span className="num">{n}</span>
        <span className="num text-faint">{f.state === "failed" ? "unreadable" : clock(f.time)}</span>
        {set.reference != null && f.id === set.reference && (
          <span className="text-[13px] font-semibold">reference</span>
        )}
      </label>
      <div className="text-[13px] leading-tight text-faint tabular-nums">{exposure(f)}</div>
      {worry && <div className="text-[13px] leading-tight text-persimmon">▸ {f.set_aside ? "set aside" : worry}</div>}
      {!worry && f.set_aside && <div className="text-[13px] text-persimmon">▸ set aside</div>}
      {more.map((text) => (
        <div key={text} className="text-[13px] leading-tight text-faint">
          {text}
        </div>
      ))}
    </article>
  );
}

/** The axis: a mark a frame, higher where its light is brighter, steps where the camera moved. */
function Axis({ set }: { set: SetDetail }) {
  const at = places(set.frames);
  const light = set.frames.map((f) => (f.gain ? -Math.log2(f.gain[1] ?? 1) : null));
  const most = Math.max(0.25, ...light.map((v) => Math.abs(v ?? 0)));
  const x = (k: number) => 24 + (at[k] ?? 0) * 952;
  const y = (v: number) => 26 - (v / most) * 15;
  const known = light.map((v, k) => [k, v] as const).filter((p): p is readonly [number, number] => p[1] != null);
  const tripod = set.positions > 1 && 2 * set.positions <= known.length;
  return (
    <figure className="shrink-0 border-b border-rule px-4 pt-2 pb-1">
      <svg
        viewBox="0 0 1000 52"
        className="block w-full"
        role="img"
        aria-label={`Time axis: ${plural(set.frames.length, "frame")}`}
      >
        <line x1={10} x2={990} y1={44} y2={44} stroke="var(--color-faint)" />
        <line x1={10} x2={990} y1={26} y2={26} stroke="var(--color-rule)" strokeDasharray="3 4" />
        <polyline
          points={known.map(([k, v]) => `${x(k)},${y(v)}`).join(" ")}
          fill="none"
          stroke="var(--color-ink)"
          strokeWidth={1.5}
        />
        {set.frames.map((f, k) => (
          <g key={f.id}>
            <line
              x1={x(k)}
              x2={x(k)}
              y1={44}
              y2={f.used ? 37 : 41}
              stroke="var(--color-ink)"
              strokeWidth={f.used ? 2 : 1}
            />
            {light[k] != null && (
              <rect x={x(k) - 2.5} y={y(light[k] ?? 0) - 2.5} width={5} height={5} fill="var(--color-ink)" />
            )}
            {tripod && k > 0 && set.frames[k - 1]?.camera_position !== f.camera_position && isLaid(f) && (
              <path
                d={`M${(x(k) + x(k - 1)) / 2} 8 v36`}
                stroke="var(--color-persimmon)"
                strokeWidth={2}
                strokeDasharray="5 3"
              />
            )}
          </g>
        ))}
      </svg>
      <figcaption className="flex gap-4 text-[13px] text-faint">
        <span>{span(set)}</span>
        <span className="grow">
          {set.light ? `Line: ${set.light.text}` : "Light is compared once the frames are aligned"}
        </span>
        {tripod && <span className="text-persimmon">▸ broken line: the camera moved</span>}
        <span>
          {set.moments && set.moments < set.frames.filter((f) => f.used).length ? plural(set.moments, "moment") : ""}
        </span>
      </figcaption>
    </figure>
  );
}

function span(set: SetDetail): string {
  const all = set.frames.map((f) => f.seconds).filter((s): s is number => s != null);
  if (all.length < 2) return plural(set.frames.length, "frame");
  const s = Math.max(...all) - Math.min(...all);
  const long = s < 120 ? `${s.toFixed(0)} s` : s < 7200 ? `${(s / 60).toFixed(0)} min` : `${(s / 3600).toFixed(1)} h`;
  return `${plural(set.frames.length, "frame")} in ${long}`;
}

/** What can be done with the chosen frames. */
function Acts({
  open,
  set,
  chosen,
  clear,
  all,
}: {
  open: OpenSet;
  set: SetDetail;
  chosen: number[];
  clear: () => void;
  all: () => void;
}) {
  const client = useQueryClient();
  const sets = useQuery({ queryKey: ["sets"], queryFn: api.sets });
  const frames = set.frames.filter((f) => chosen.includes(f.id));
  const numbers = frames.map((f) => set.frames.indexOf(f) + 1).join(", ");
  const named = `${frames.length === 1 ? "frame" : "frames"} ${numbers}`;
  const aside = (out: boolean) => {
    const own = frames.map((f) => f.id);
    void open.change(out ? `set ${named} aside` : `bring ${named} back`, setAside(set.recipe, own, out));
    clear();
  };
  const move = (to: number | null) =>
    api
      .move(set.id, chosen, to)
      .then(({ id }) => {
        void client.invalidateQueries();
        const back = () =>
          void api
            .move(id, chosen, set.id)
            .then(() => client.invalidateQueries())
            .catch(tellError);
        const whole = frames.length === set.frames.length;
        tell(`${plural(frames.length, "frame")} moved.`, whole ? undefined : { undo: back });
        clear();
        go(`/set/${id}`);
      })
      .catch(tellError);
  return (
    <footer className="flex shrink-0 flex-wrap items-center gap-2 border-t border-rule px-4 py-2 text-[14px]">
      {frames.length ? (
        <>
          <span className="font-semibold">{plural(frames.length, "frame")} chosen</span>
          {frames.some((f) => f.joined && !f.set_aside) && <Button onClick={() => aside(true)}>Set aside</Button>}
          {frames.some((f) => f.set_aside) && <Button onClick={() => aside(false)}>Bring back</Button>}
          {frames.length < set.frames.length && <Button onClick={() => void move(null)}>Make a set of them</Button>}
          <select
            aria-label="Move to another set"
            className="border border-faint/60 bg-leaf px-1 py-1"
            value=""
            onChange={(e) => void move(Number(e.target.value))}
          >
            <option value="" disabled>
              {frames.length === set.frames.length ? "Merge into …" : "Move to …"}
            </option>
            {sets.data
              ?.filter((s) => s.id !== set.id)
              .map((s) => (
                <option key={s.id} value={s.id}>
                  {s.name}
                </option>
              ))}
          </select>
          <button className="underline" onClick={clear}>
            Let go
          </button>
        </>
      ) : (
        <>
          <span className="text-faint">
            Choose frames to set them aside, part them off as a set of their own, or move them.
          </span>
          <button className="underline" onClick={all}>
            Choose all
          </button>
        </>
      )}
    </footer>
  );
}

/** One frame as shot, large, before there is a plate or when it fits nowhere. */
function Large({ set, id, go }: { set: SetDetail; id: number; go: (id: number | null) => void }) {
  const k = set.frames.findIndex((f) => f.id === id);
  const f = set.frames[k];
  const next = (by: number) => {
    const to = set.frames[(k + by + set.frames.length) % set.frames.length];
    if (to) go(to.id);
  };
  if (!f) return null;
  return (
    <div
      className="surround-grey flex h-full flex-col text-white outline-none"
      tabIndex={0}
      ref={(e) => e?.focus()}
      data-testid="large"
      onKeyDown={(e) => {
        const acts: Record<string, () => void> = {
          ArrowLeft: () => next(-1),
          ArrowRight: () => next(1),
          Escape: () => go(null),
        };
        if (acts[e.key]) {
          e.stopPropagation();
          e.preventDefault();
          acts[e.key]?.();
        }
      }}
    >
      <div className="flex min-h-0 grow items-center justify-center p-3">
        {f.state === "ready" && (
          <img
            src={thumbnail(set, f.id, 2000)}
            alt={`Frame ${k + 1} as shot`}
            className="max-h-full max-w-full object-contain"
          />
        )}
      </div>
      <div className="flex items-center gap-3 bg-leaf px-3 py-1 text-ink">
        <Button onClick={() => next(-1)}>Before</Button>
        <Button onClick={() => next(1)}>After</Button>
        <span>
          Frame {k + 1} as shot, {clock(f.time)} {exposure(f)}
        </span>
        <span className="grow truncate text-persimmon">{f.reason && `▸ ${f.reason}`}</span>
        <button className="underline" onClick={() => go(null)}>
          All frames
        </button>
      </div>
    </div>
  );
}
