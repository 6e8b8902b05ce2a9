// The clip along its time: moments, who touches the area, how light and place change, a line of the patch over time; and how it is played.
import { Pause, Play, SkipBack, SkipForward } from "lucide-react";
import { useRef, type PointerEvent } from "react";
import { thumbnail, type ClipState, type SetDetail } from "../api/client";
import { Button } from "../ui/controls";
import { plural } from "../ui/words";
import { lay, slitPicture } from "./clip";
import { frameAt, nextCrossing, timeWords, useTime, type Showing } from "./time";

const HEIGHT = 34;
const showings: [Showing, string][] = [
  ["clean", "With the patch"],
  ["shot", "As shot"],
  ["divide", "Side by side"],
  ["difference", "What differs"],
];

export function TimeStrip({ set, clip }: { set: SetDetail; clip: ClipState }) {
  const { at, playing, showing, loop, set: put } = useTime();
  const last = clip.seconds.length - 1;
  const end = clip.seconds[last] || 1;
  const x = (k: number) => `${(100 * (clip.seconds[k] ?? 0)) / end}%`;
  const busy = set.run?.kind === "clip" && (set.run.state === "running" || set.run.state === "queued");
  const go = (k: number) => put({ at: Math.min(last, Math.max(0, k)), playing: false });
  const crossing = (by: 1 | -1) => {
    const k = nextCrossing(clip.crossings, at, by);
    if (k != null) go(k);
  };
  const bar = useRef<HTMLDivElement>(null);
  const timeOf = (e: PointerEvent) => {
    const box = bar.current?.getBoundingClientRect();
    return box ? frameAt(clip.seconds, (end * (e.clientX - box.left)) / box.width) : 0;
  };
  const found = clip.crossings.some((c) => c.first <= at && at <= c.last);
  return (
    <section aria-label="Time" className="shrink-0 border-t border-rule bg-sheet px-3 pt-1 pb-2 text-[14px]">
      <div className="flex h-8 items-center gap-2 whitespace-nowrap">
        <button aria-label="Frame before" className="p-1 hover:bg-leaf" onClick={() => go(at - 1)}>
          <SkipBack size={16} />
        </button>
        {clip.laid ? (
          <Button strong aria-pressed={playing} onClick={() => put({ playing: !playing })}>
            {playing ? <Pause size={15} /> : <Play size={15} />}
            {playing ? "Pause" : "Play"}
          </Button>
        ) : (
          <Button strong disabled={busy} onClick={() => lay(set)}>
            {busy ? "Being laid" : clip.covered > 0 ? "Lay the patch, to play it" : "Make ready to play"}
          </Button>
        )}
        <button aria-label="Frame after" className="p-1 hover:bg-leaf" onClick={() => go(at + 1)}>
          <SkipForward size={16} />
        </button>
        <span className="num w-40" data-testid="clip-time">
          {timeWords(clip.seconds[at] ?? 0)} · frame {at + 1}
        </span>
        <Button disabled={!clip.crossings.length} aria-label="Contact before" onClick={() => crossing(-1)}>
          ‹ Contact
        </Button>
        <Button disabled={!clip.crossings.length} aria-label="Next contact" onClick={() => crossing(1)}>
          Contact ›
        </Button>
        <Button
          aria-pressed={loop != null}
          className="aria-pressed:bg-ink aria-pressed:text-leaf"
          title="Plays two seconds around this frame over and over"
          onClick={() => {
            const around = (by: number) => frameAt(clip.seconds, (clip.seconds[at] ?? 0) + by);
            put({ loop: loop ? null : [around(-1), Math.max(around(1), around(-1) + 1)] });
          }}
        >
          Repeat
        </Button>
        <span className="grow" />
        <span className={found ? "text-persimmon" : "text-faint"}>{clip.laid ? contactWords(clip, at) : ""}</span>
        <select
          aria-label="What of the clip is shown"
          className="shrink-0 border border-faint/60 bg-leaf px-1 py-0.5"
          value={showing}
          onChange={(e) => put({ showing: e.target.value as Showing })}
        >
          {showings.map(([name, title]) => (
            <option key={name} value={name}>
              {title}
            </option>
          ))}
        </select>
      </div>
      <div
        ref={bar}
        role="slider"
        tabIndex={0}
        aria-label="Time in the clip"
        aria-valuemin={0}
        aria-valuemax={last}
        aria-valuenow={at}
        className="relative mt-1 touch-none overflow-hidden outline-offset-2 select-none"
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          go(timeOf(e));
        }}
        onPointerMove={(e) => e.buttons && go(timeOf(e))}
      >
        <Moments set={set} clip={clip} />
        <Curves clip={clip} x={(k) => (1000 * (clip.seconds[k] ?? 0)) / end} />
        {clip.laid?.slit && (
          <img
            src={slitPicture(set.id, clip)}
            alt="A line across the patch in each frame, time to the right"
            title="A line across the patch in each frame, time to the right: pumping, popping and late ends show at once"
            className="pointer-events-none mt-0.5 block h-9 w-full object-fill"
            draggable={false}
          />
        )}
        {loop && (
          <span
            className="pointer-events-none absolute inset-y-0 border-x-2 border-ink bg-ink/10"
            style={{ left: x(loop[0]), right: `calc(100% - ${x(loop[1])})` }}
          />
        )}
        <span
          className="pointer-events-none absolute inset-y-0 w-0.5 bg-ink outline outline-leaf"
          style={{ left: x(at) }}
        />
      </div>
    </section>
  );
}

function contactWords(clip: ClipState, at: number): string {
  const share = clip.laid?.contact[at] ?? 0;
  const count = clip.crossings.length;
  if (share > 0.002) return `${(100 * share).toFixed(share < 0.1 ? 1 : 0)} % of it touched`;
  return count ? plural(count, "contact") : "nobody in front";
}

/** Some of the frames that the set has, as small pictures at their times. */
function Moments({ set, clip }: { set: SetDetail; clip: ClipState }) {
  const shown = 14;
  const end = clip.seconds[clip.seconds.length - 1] || 1;
  const nearest = (time: number) =>
    clip.moments.reduce<(typeof clip.moments)[number] | null>((best, m) => {
      const off = (k: number) => Math.abs((clip.seconds[k] ?? 0) - time);
      return best && off(best.at) <= off(m.at) ? best : m;
    }, null);
  return (
    <div className="flex" style={{ height: HEIGHT }}>
      {Array.from({ length: shown }, (_, k) => nearest(((k + 0.5) * end) / shown)).map(
        (m, k) =>
          m && (
            <img
              key={k}
              src={thumbnail(set, m.frame, 160)}
              alt=""
              draggable={false}
              className="min-w-0 flex-1 object-cover"
              style={{ height: HEIGHT }}
            />
          ),
      )}
    </div>
  );
}

/** Who touches the area, and how place and light change. */
function Curves({ clip, x }: { clip: ClipState; x: (k: number) => number }) {
  const moved = clip.moved.map(({ frame, moved }) => ({ k: frame, ...moved }));
  const most = Math.max(1, ...moved.map((m) => Math.hypot(m.shift[0] ?? 0, m.shift[1] ?? 0)));
  const stops = Math.max(0.2, ...moved.map((m) => Math.abs(m.stops)));
  const line = (of: (m: (typeof moved)[number]) => number) =>
    moved.map((m) => `${x(m.k).toFixed(1)},${(17 - 15 * of(m)).toFixed(1)}`).join(" ");
  const contact = clip.laid?.contact ?? [];
  return (
    <svg
      viewBox="0 0 1000 34"
      preserveAspectRatio="none"
      className="mt-0.5 block h-[34px] w-full bg-leaf"
      role="img"
      aria-label={`Contacts as bars; movement up to ${most.toFixed(1)} px; light up to ${stops.toFixed(2)} stops`}
    >
      <title>{`Filled: who touches the area. Solid line: movement, up to ${most.toFixed(1)} px. Broken line: light, up to ${stops.toFixed(2)} stops.`}</title>
      <path
        d={`M0,34 ${contact.map((c, k) => `L${x(k).toFixed(1)},${(34 - 33 * Math.min(1, Math.sqrt(c))).toFixed(1)}`).join(" ")} L1000,34 Z`}
        fill="var(--color-persimmon)"
        fillOpacity={0.55}
      />
      {clip.shots.map(([first]) =>
        first ? (
          <line
            key={first}
            x1={x(first)}
            x2={x(first)}
            y1={0}
            y2={34}
            stroke="var(--color-ink)"
            vectorEffect="non-scaling-stroke"
          />
        ) : null,
      )}
      <polyline
        points={line((m) => (m.shift[0] ?? 0) / most)}
        fill="none"
        stroke="var(--color-ink)"
        strokeWidth={1.2}
        vectorEffect="non-scaling-stroke"
      />
      <polyline
        points={line((m) => m.stops / stops)}
        fill="none"
        stroke="var(--color-verdigris)"
        strokeWidth={1.4}
        strokeDasharray="5 3"
        vectorEffect="non-scaling-stroke"
      />
    </svg>
  );
}
