// What no frame shows clear: areas copied, mended, evened out or made up, each a thing of its own.
import { useEffect } from "react";
import { touchPicture, type SetDetail, type Touch } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf, takeLoop } from "../patches/patches";
import { camera } from "../picture/camera";
import { plate } from "../picture/views";
import { useView } from "../state/store";
import {
  choose,
  coverLoop,
  evenLoop,
  inventLoop,
  kindOf,
  more,
  movedTo,
  moveOf,
  reopen,
  touchWords,
  type Act,
} from "../touches/touches";
import { Button, Slide } from "../ui/controls";
import { plural } from "../ui/words";
import type { Fact } from "./fact";

/** Words of an act that goes on with the last: one nudge after another. */
const MOVE = "move the source of a touch";

export function retouchFact(set: SetDetail): Fact {
  const touches = set.recipe.touches;
  if (!touches.length) return { text: "nothing retouched" };
  const share = set.invented;
  const told =
    share == null
      ? ""
      : share > 0
        ? `, ${(100 * share).toFixed(share < 0.001 ? 2 : 1)} % made up`
        : ", nothing made up";
  return { text: `${plural(touches.length, "touch", "touches")}${told}` };
}

export function RetouchLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { touch: index, loop, trying, drawing, set: put } = useView();
  const touches = set.recipe.touches;
  const canvas = set.canvas;
  const change = (k: number, part: Partial<Touch> | ((now: Touch) => Partial<Touch>), label: string) =>
    void open.change(
      label,
      (now) => ({
        touches: now.touches.map((t, i) => (i === k ? { ...t, ...(typeof part === "function" ? part(t) : part) } : t)),
      }),
      { joins: label === MOVE },
    );
  const show = (k: number) => {
    const touch = touches[k];
    put({ touch: index === k ? null : k, trying: null, variant: null });
    if (!touch || !canvas || touch.on !== set.reference || index === k) return;
    const box = boxOf(touch.outline);
    put({ view: plate, sheet: false, flicking: false });
    camera.show({ ...box, x: box.x - canvas.x, y: box.y - canvas.y });
  };
  const reorder = (from: number, to: number) => {
    const [moved, ...rest] = [touches[from], ...touches.filter((_, i) => i !== from)];
    if (!moved) return;
    void open.change(to < from ? "lay a touch under another" : "lay a touch over another", {
      touches: [...rest.slice(0, to), moved, ...rest.slice(to)],
    });
    put({ touch: to });
  };
  return (
    <div className="flex flex-col gap-2 text-[14px]">
      <p className="leading-tight text-faint">
        {loop
          ? "Nothing is taken from inside the loop. What is made up is recorded as made up."
          : "Draw a loop around what no frame shows clear: a lamp post, a cable, a blotch."}
      </p>
      <div className="flex flex-wrap gap-2">
        {!loop && (
          <Button
            disabled={!canvas}
            aria-pressed={drawing === "loop"}
            onClick={() =>
              put({ drawing: "loop", taking: null, giving: false, view: plate, sheet: false, flicking: false })
            }
          >
            Draw around it
          </Button>
        )}
        {loop && (
          <>
            <Button onClick={() => void inventLoop(set)}>Invent</Button>
            <Button
              title="From the place that goes on best from its rim, as it is"
              onClick={() => void coverLoop(open, set, "copy")}
            >
              Copy
            </Button>
            <Button title="The same in the tone of what is around" onClick={() => void coverLoop(open, set, "mend")}>
              Mend
            </Button>
            <Button
              title="Blotches and veils: tone goes slowly from rim to rim, texture stays"
              onClick={() => evenLoop(open, set)}
            >
              Even out
            </Button>
          </>
        )}
      </div>
      {trying && <Variants open={open} set={set} />}
      <ol>
        {touches.map((touch, k) => (
          <li key={k} className="border-b border-rule/60" data-touch={kindOf(touch.act)} data-off={touch.disabled}>
            <button
              className={`flex w-full items-center gap-2 px-1 py-0.5 text-left hover:bg-leaf ${index === k ? "bg-leaf font-semibold" : ""} ${touch.disabled ? "line-through" : ""}`}
              aria-expanded={index === k}
              onClick={() => show(k)}
            >
              <img
                src={touchPicture(set.id, set.plate_key ?? "", k)}
                alt=""
                loading="lazy"
                className="h-9 w-12 shrink-0 bg-rule object-cover"
                onError={(e) => (e.currentTarget.style.visibility = "hidden")}
              />
              <span className="grow">
                {k + 1}. {touchWords(touch.act)}
              </span>
              <span className="num text-faint">{sizeWords(touch)}</span>
            </button>
            {index === k && (
              <Settings
                set={set}
                touch={touch}
                index={k}
                last={touches.length - 1}
                change={(part, label) => change(k, part, label)}
                reorder={(to) => reorder(k, to)}
                remove={() => (
                  void open.change("take a touch back", { touches: touches.filter((_, i) => i !== k) }),
                  put({ touch: null, trying: null, variant: null })
                )}
              />
            )}
          </li>
        ))}
      </ol>
    </div>
  );
}

function sizeWords(touch: Touch) {
  const box = boxOf(touch.outline);
  return `${Math.round(box.width)} × ${Math.round(box.height)} px`;
}

/** What an area would look like; pointed at, a variant is shown in its place. */
function Variants({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { trying, loop, set: put } = useView();
  useEffect(() => () => void put({ variant: null }), [put]);
  if (!trying) return null;
  const best = trying.frames[0];
  return (
    <section aria-label="Variants" className="flex flex-col gap-1.5 border-y border-rule py-1.5">
      {best && loop && (
        <p className="leading-tight" data-testid="evidence-first">
          A frame shows less here than the plate does: perhaps nothing has to be made up.{" "}
          <button
            className="underline"
            onClick={() => (put({ trying: null }), void takeLoop(open, set, loop, { frame: best.frame }))}
          >
            Take it from {best.words}
          </button>
        </p>
      )}
      {trying.hints.map((hint) => (
        <p key={hint} className="leading-tight text-persimmon">
          {hint[0]?.toUpperCase()}
          {hint.slice(1)}.
        </p>
      ))}
      {!trying.variants ? (
        <p className="text-faint" role="status">
          Looking at what is around it
        </p>
      ) : (
        <div className="grid grid-cols-2 gap-1.5">
          {trying.variants.map((variant) => (
            <button
              key={variant.variant}
              className="border border-faint/60 bg-leaf hover:border-ink focus-visible:border-ink"
              aria-label={`Variant ${variant.variant + 1}`}
              onPointerEnter={() => put({ variant })}
              onPointerLeave={() => put({ variant: null })}
              onFocus={() => put({ variant })}
              onClick={() => choose(open, variant)}
            >
              <img src={variant.picture} alt="" className="h-24 w-full object-cover" />
              <span className="num">{variant.variant + 1}</span>
            </button>
          ))}
        </div>
      )}
      <div className="flex gap-2">
        <Button disabled={!trying.variants} onClick={() => void more(set)}>
          Four more
        </Button>
        <Button onClick={() => put({ trying: null, variant: null })}>Leave it</Button>
      </div>
    </section>
  );
}

function Settings({
  set,
  touch,
  index,
  last,
  change,
  remove,
  reorder,
}: {
  set: SetDetail;
  touch: Touch;
  index: number;
  last: number;
  change: (part: Partial<Touch> | ((now: Touch) => Partial<Touch>), label: string) => void;
  remove: () => void;
  reorder: (to: number) => void;
}) {
  const { act } = touch;
  const move = moveOf(act);
  const shift = (x: number, y: number) =>
    change((now) => {
      const place = moveOf(now.act);
      if (!place) return {};
      const [a = 0, b = 0] = place.shift;
      return { act: movedTo(now.act, { ...place, shift: [a - x, b - y] }) };
    }, MOVE);
  const place = (part: Partial<NonNullable<typeof move>>, label: string) =>
    change((now) => {
      const place = moveOf(now.act);
      return place ? { act: movedTo(now.act, { ...place, ...part }) } : {};
    }, label);
  const number = "num w-16 border border-faint/60 bg-white px-1 text-right";
  return (
    <div className="flex flex-col gap-1.5 px-1 py-2">
      {"invent" in act && <Button onClick={() => reopen(set, index)}>Other variants</Button>}
      {"mend" in act && (
        <label className="flex items-center justify-between gap-2">
          May change
          <select
            className="border border-faint/60 bg-leaf px-1 py-0.5"
            value={act.mend.only}
            onChange={(e) =>
              change(
                { act: { mend: { ...act.mend, only: e.target.value as typeof act.mend.only } } as Act },
                "which way a mend may change",
              )
            }
          >
            <option value="both">both ways</option>
            <option value="lighten">only what is darker</option>
            <option value="darken">only what is brighter</option>
          </select>
        </label>
      )}
      {"even" in act && (
        <Slide
          name="Slow over"
          unit="px"
          value={Math.round(act.even.slow)}
          least={2}
          most={Math.max(200, Math.round(act.even.slow))}
          change={(slow) => change({ act: { even: { slow } } }, "how slow tone is evened out")}
        />
      )}
      {move && (
        <>
          <div
            className="flex items-center gap-2"
            tabIndex={0}
            role="group"
            aria-label="Source, moved by the arrow keys"
            onKeyDown={(e) => {
              const by = e.shiftKey ? 10 : 1;
              const step = { ArrowLeft: [-by, 0], ArrowRight: [by, 0], ArrowUp: [0, -by], ArrowDown: [0, by] }[e.key];
              if (!step || (e.target as HTMLElement).tagName === "INPUT") return;
              e.preventDefault();
              e.stopPropagation();
              shift(step[0] ?? 0, step[1] ?? 0);
            }}
          >
            <span className="grow">Source</span>
            <span className="num" data-testid="touch-shift">
              {(-(move.shift[0] ?? 0)).toFixed(1)}, {(-(move.shift[1] ?? 0)).toFixed(1)} px
            </span>
            {(
              [
                ["←", "Source to the left", -1, 0],
                ["→", "Source to the right", 1, 0],
                ["↑", "Source up", 0, -1],
                ["↓", "Source down", 0, 1],
              ] as const
            ).map(([sign, name, x, y]) => (
              <button
                key={name}
                aria-label={name}
                className="px-1 hover:bg-leaf"
                onClick={(e) => shift(e.shiftKey ? 10 * x : x, e.shiftKey ? 10 * y : y)}
              >
                {sign}
              </button>
            ))}
          </div>
          <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <label className="flex items-center gap-1">
              Turn
              <input
                type="number"
                step={0.5}
                className={number}
                aria-label="Turn of the source in degrees"
                value={move.turn}
                onChange={(e) =>
                  place({ turn: Math.max(-180, Math.min(180, Number(e.target.value))) }, "turn the source of a touch")
                }
              />
              °
            </label>
            <label className="flex items-center gap-1">
              Scale
              <input
                type="number"
                step={1}
                className={number}
                aria-label="Scale of the source in percent"
                value={Math.round(100 * move.scale)}
                onChange={(e) =>
                  place(
                    { scale: Math.max(0.1, Math.min(10, Number(e.target.value) / 100)) },
                    "scale the source of a touch",
                  )
                }
              />
              %
            </label>
            <label className="flex items-center gap-1">
              <input
                type="checkbox"
                className="accent-ink"
                checked={move.mirror}
                onChange={(e) => place({ mirror: e.target.checked }, "mirror the source of a touch")}
              />
              Mirrored
            </label>
          </div>
        </>
      )}
      <Slide
        name="Strength"
        unit="%"
        value={Math.round(100 * touch.strength)}
        most={100}
        change={(v) => change({ strength: v / 100 }, "strength of a touch")}
      />
      <Slide
        name="Border fades over"
        unit="px"
        value={Math.round(touch.feather)}
        most={60}
        change={(v) => change({ feather: v }, "border of a touch")}
      />
      <div className="flex flex-wrap gap-2">
        <Button
          onClick={() =>
            change({ disabled: !touch.disabled }, touch.disabled ? "switch a touch on" : "switch a touch off")
          }
        >
          {touch.disabled ? "Switch on" : "Switch off"}
        </Button>
        {index > 0 && <Button onClick={() => reorder(index - 1)}>Lay it under</Button>}
        {index < last && <Button onClick={() => reorder(index + 1)}>Lay it over</Button>}
        <Button onClick={remove}>Take it back</Button>
      </div>
    </div>
  );
}
