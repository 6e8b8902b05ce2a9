// What can be changed of a touch that is laid.
import type { SetDetail, Touch } from "../api/client";
import { plate } from "../picture/views";
import { useView } from "../state/store";
import { Button, Slide } from "../ui/controls";
import { Turning } from "../ui/Turning";
import { From, shownOf, shownWord } from "./CopyPanel";
import { movedTo, moveOf, type Act } from "./touches";

/** Words of an act that goes on with the last: one nudge after another. */
export const MOVE = "move the source of a touch";

export function Settings({
  set,
  touch,
  index,
  last,
  change,
  remove,
  reorder,
  reopen,
  find,
  lay,
}: {
  set: SetDetail;
  touch: Touch;
  index: number;
  last: number;
  change: (part: Partial<Touch> | ((now: Touch) => Partial<Touch>), label: string) => void;
  remove: () => void;
  reorder: (to: number) => void;
  reopen: () => void;
  find: () => void;
  lay: () => void;
}) {
  const { set: put } = useView();
  // A flare has no numbers of its own.
  const act = touch.act === "flare" ? { flare: true } : touch.act;
  const move = moveOf(touch.act);
  const shift = (x: number, y: number) =>
    change((now) => {
      const place = moveOf(now.act);
      if (!place) return {};
      const [a = 0, b = 0] = place.shift;
      return { act: movedTo(now.act, { ...place, shift: [a - x, b - y] }) };
    }, MOVE);
  const draw = (drawing: "reshape" | "barred" | "plane") =>
    put({ drawing, view: plate, sheet: false, flicking: false, taking: null, giving: false, trying: null });
  return (
    <div className="flex flex-col gap-1.5 px-1 py-2">
      {"invent" in act && <Button onClick={reopen}>Other variants</Button>}
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
          <From
            set={set}
            value={shownWord(touch.shown)}
            change={(word) => change({ shown: shownOf(word) }, "what a touch is taken from")}
          />
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
          <Turning
            place={move}
            change={(part, what) =>
              change((now) => {
                const place = moveOf(now.act);
                return place ? { act: movedTo(now.act, { ...place, ...part }) } : {};
              }, `${what} the source of a touch`)
            }
          />
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
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-ink"
          checked={touch.snap_to_edges ?? false}
          onChange={(e) => change({ snap_to_edges: e.target.checked, parts: [] }, "a border at the picture's edges")}
        />
        Does not cross edges of the picture
      </label>
      <div className="flex flex-wrap gap-2">
        {move && <Button onClick={find}>Another source</Button>}
        <Button onClick={() => draw("reshape")}>Draw it anew</Button>
        {!("even" in act || "flare" in act) && <Button onClick={() => draw("barred")}>Not from here</Button>}
        {!!touch.barred?.length && (
          <Button onClick={() => change({ barred: [] }, "take from everywhere again")}>From everywhere</Button>
        )}
        {!("even" in act || "flare" in act) &&
          (touch.plane ? (
            <>
              <Button onClick={() => draw("plane")}>Its lines</Button>
              <Button onClick={() => change({ plane: null }, "a touch without a plane")}>Not in a plane</Button>
            </>
          ) : (
            <Button onClick={lay}>In a plane</Button>
          ))}
        {!!touch.parts?.length && (
          <Button onClick={() => change({ parts: [] }, "one variant alone")}>One variant alone</Button>
        )}
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
