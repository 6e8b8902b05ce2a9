// What no frame shows clear: areas copied, mended, evened out or made up, each a thing of its own.
import { touchPicture, type SetDetail, type Touch } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf } from "../patches/patches";
import { camera } from "../picture/camera";
import { plate } from "../picture/views";
import { useView } from "../state/store";
import { CopyPanel } from "../touches/CopyPanel";
import { Evidence } from "../touches/Evidence";
import { Missing } from "../touches/Missing";
import { Seen } from "../touches/Seen";
import { MOVE, Settings } from "../touches/Settings";
import {
  coverLoop,
  drawAround,
  evenLoop,
  findPlane,
  flareLoop,
  anotherSource,
  inventLoop,
  kindOf,
  reopen,
  touchWords,
} from "../touches/touches";
import { Variants } from "../touches/Variants";
import { Button } from "../ui/controls";
import { madeUp, plural } from "../ui/words";
import type { Fact } from "./fact";

export function retouchFact(set: SetDetail): Fact {
  const touches = set.recipe.touches;
  if (!touches.length) return { text: "nothing retouched" };
  const share = set.invented;
  const told = share == null ? "" : share > 0 ? `, ${madeUp(share)} made up` : ", nothing made up";
  return { text: `${plural(touches.length, "touch", "touches")}${told}` };
}

export function RetouchLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { touch: index, loop, pinned, trying, drawing, seen, set: put } = useView();
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
      {loop ? (
        <Evidence open={open} set={set} loop={loop} />
      ) : (
        <p className="leading-tight text-faint">
          Point at what no frame shows clear, such as a lamp post, a cable, a blotch, or draw around it (Loop, under the
          picture, or L). What is made up is recorded as made up.
        </p>
      )}
      <div className="flex flex-wrap gap-2">
        {!loop && pinned && (
          <Button strong onClick={() => void drawAround(set, pinned)}>
            Draw around what stands there
          </Button>
        )}
        {!loop && (
          <Button
            disabled={!canvas}
            aria-pressed={drawing === "stroke"}
            title="Choose a source by one gesture, see it under the brush, lay it by strokes"
            onClick={() =>
              put(
                drawing === "stroke"
                  ? { drawing: null }
                  : {
                      drawing: "stroke",
                      touch: null,
                      trying: null,
                      variant: null,
                      view: plate,
                      sheet: false,
                      flicking: false,
                    },
              )
            }
          >
            Copy by brush
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
            <Button
              title="The light that a reflection between lenses adds; draw around the whole of its disc"
              onClick={() => void flareLoop(open, set)}
            >
              Take off flare
            </Button>
          </>
        )}
      </div>
      {!loop && !trying && <Missing open={open} set={set} />}
      {drawing === "stroke" && <CopyPanel set={set} />}
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
                {k + 1}. {touchWords(touch)}
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
                reopen={() => (put({ touch: null }), reopen(set, k))}
                find={() => void anotherSource(open, set, k)}
                lay={() => void findPlane(open, set, touch, k)}
                remove={() => (
                  void open.change("take a touch back", { touches: touches.filter((_, i) => i !== k) }),
                  put({ touch: null, trying: null, variant: null })
                )}
              />
            )}
          </li>
        ))}
      </ol>
      {touches.length > 0 && (
        <Button aria-expanded={seen} onClick={() => put({ seen: !seen })}>
          What can still be seen
        </Button>
      )}
      {seen && touches.length > 0 && <Seen open={open} set={set} show={show} />}
    </div>
  );
}

function sizeWords(touch: Touch) {
  const box = boxOf(touch.outline);
  return `${Math.round(box.width)} × ${Math.round(box.height)} px`;
}
