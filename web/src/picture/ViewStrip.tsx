// The line above the picture: what is on it, comparing, scale.
import { Keyboard } from "lucide-react";
import type { SetDetail } from "../api/client";
import { showClip } from "../clip/clip";
import { useView } from "../state/store";
import { camera } from "./camera";
import { frameNumber, isLaid, viewTitle } from "./names";
import { lights, type Light } from "./light";
import type { Compare } from "./slice";
import { agreement, bare, frameView, plate, viewOf, wordOf } from "./views";

const pressed = "aria-pressed:bg-ink aria-pressed:text-leaf px-1.5 py-0.5 hover:bg-leaf disabled:opacity-45";

export function ViewStrip({ set }: { set: SetDetail }) {
  const { view, other, zoom, flicking, holding, sheet, reach, compare, light, clip, set: put } = useView();
  const ready = set.canvas != null;
  const options = (
    <>
      <option value={wordOf(plate)}>Plate</option>
      {(set.recipe.patches.length + set.recipe.touches.length > 0 || [view, other].some((v) => v?.kind === "bare")) && (
        <option value={wordOf(bare)}>Nothing by hand</option>
      )}
      <option value={wordOf(agreement)}>Agreement</option>
      {set.frames.filter(isLaid).map((f) => (
        <option key={f.id} value={wordOf(frameView(f.id))}>
          Frame {frameNumber(set, f.id)}
        </option>
      ))}
      {[view, other].map(
        (v) =>
          v?.kind === "state" && (
            <option key={wordOf(v)} value={wordOf(v)}>
              {viewTitle(set, v)}
            </option>
          ),
      )}
      {view.kind === "difference" && (
        <option value={wordOf(view)}>Difference, frame {frameNumber(set, view.frame)}</option>
      )}
    </>
  );
  const select = "max-w-28 border border-faint/60 bg-leaf px-1 py-0.5";
  return (
    <div
      className="flex h-9 shrink-0 items-center border-b border-rule bg-sheet px-3 whitespace-nowrap"
      role="toolbar"
      aria-label="Picture"
    >
      {/* Where it is narrow this part scrolls; scale and keys stay. */}
      <div className="flex min-w-0 grow items-center gap-1.5 overflow-x-auto">
        <button
          className={pressed}
          aria-pressed={sheet}
          onClick={() => put({ sheet: !sheet, flicking: false, clip: false })}
        >
          All frames
        </button>
        {set.clip && (
          <button className={pressed} aria-pressed={clip} onClick={() => (clip ? put({ clip: false }) : showClip())}>
            Clip
          </button>
        )}
        <select
          aria-label="Shown"
          className={select}
          value={wordOf(view)}
          disabled={!ready}
          onChange={(e) => put({ view: viewOf(e.target.value), flicking: false, sheet: false, clip: false })}
        >
          {options}
        </select>
        <button
          className={pressed}
          aria-pressed={other !== null}
          disabled={!ready}
          onClick={() =>
            put({ compare: "divide", other: other ? null : set.reference == null ? plate : frameView(set.reference) })
          }
        >
          Divide
        </button>
        {other && (
          <select
            aria-label="Right of the divider"
            className={select}
            value={wordOf(other)}
            onChange={(e) => put({ other: viewOf(e.target.value) })}
          >
            {options}
          </select>
        )}
        {other && (
          <select
            aria-label="How they are compared"
            className={select}
            value={compare}
            onChange={(e) => put({ compare: e.target.value as Compare })}
          >
            <option value="divide">Side by side</option>
            <option value="through">See-through</option>
            <option value="turns">Take turns</option>
            <option value="difference">What differs</option>
          </select>
        )}
        <button
          className={`${pressed} touch-none`}
          aria-pressed={holding}
          disabled={!ready}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            put({ holding: true });
          }}
          onPointerUp={() => put({ holding: false })}
          onPointerCancel={() => put({ holding: false })}
        >
          Hold: as shot
        </button>
        {/* Beside the divider there is no room for what has nothing to do with it. */}
        {!other && (
          <>
            <button
              className={pressed}
              aria-pressed={flicking}
              disabled={!ready}
              onClick={() => put({ flicking: !flicking, ...(flicking ? { view: plate } : {}) })}
            >
              Flick through
            </button>
            <button
              className={pressed}
              aria-pressed={reach}
              disabled={!ready}
              onClick={() => put({ reach: !reach, sheet: false })}
            >
              Reach
            </button>
          </>
        )}
        <select
          aria-label="Inspection light"
          title="Changes the view alone"
          className={`${select} ${light === "plain" ? "text-faint" : "font-semibold text-persimmon"}`}
          value={light}
          disabled={!ready}
          onChange={(e) => put({ light: e.target.value as Light })}
        >
          {lights.map(([name, title]) => (
            <option key={name} value={name}>
              {title}
            </option>
          ))}
        </select>
      </div>
      <button className={pressed} disabled={!ready} onClick={() => camera.whole()}>
        Whole
      </button>
      <button className={pressed} disabled={!ready} onClick={() => camera.hundred()}>
        100 %
      </button>
      <span className="num w-16 text-right" data-testid="zoom">
        {ready ? `${(zoom * 100).toFixed(0)} %` : ""}
      </span>
      <button aria-label="Keys" className="p-1 hover:bg-leaf" onClick={() => put({ keysShown: true })}>
        <Keyboard size={18} />
      </button>
    </div>
  );
}
