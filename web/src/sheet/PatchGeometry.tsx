// A geometry of its own for a lift: moved by arrow keys, turned, enlarged, mirrored, fitted to what is around.
import { useEffect } from "react";
import { type Patch, type SetDetail } from "../api/client";
import { fitPlace } from "../patches/patches";
import { type Compare } from "../picture/slice";
import { bare, plate } from "../picture/views";
import { useView } from "../state/store";
import { Turning } from "../ui/Turning";

/** What changes of a lift; it may follow from what the lift is at that moment. */
export type Part = Partial<Patch> | ((now: Patch) => Partial<Patch>);

/** Words of an act that goes on with the last: one nudge after another. */
export const MOVE = "move a lift";

/** The open lift under the arrow keys, turned, enlarged, mirrored. */
export function Moved({
  set,
  lift,
  change,
}: {
  set: SetDetail;
  lift: Patch;
  change: (part: Part, label: string) => void;
}) {
  const { moving, other, compare, set: put } = useView();
  // What it covers leaves the picture with the lift's settings.
  useEffect(
    () => () => void (useView.getState().other?.kind === "bare" && put({ other: null, compare: "divide" })),
    [put],
  );
  const placed = (of: Patch) => of.transform ?? { shift: [0, 0] as [number, number], turn: 0, scale: 1, mirror: false };
  const place = placed(lift);
  const adjust = (part: Partial<typeof place>, label: string) =>
    change((now) => ({ transform: { ...placed(now), ...part } }), label);
  useEffect(() => {
    if (!moving) return;
    const key = (e: KeyboardEvent) => {
      if ((e.target as HTMLElement).closest("input:not([type=checkbox]), select, [role=dialog]")) return;
      const by = e.altKey ? 0.1 : e.shiftKey ? 10 : 1;
      const step = (
        { ArrowLeft: [-by, 0], ArrowRight: [by, 0], ArrowUp: [0, -by], ArrowDown: [0, by] } as Record<
          string,
          [number, number]
        >
      )[e.key];
      if (!step) return;
      e.preventDefault();
      e.stopImmediatePropagation();
      const round = (v: number) => Math.round(v * 10) / 10;
      const moved = ([x, y]: number[]) => [round((x ?? 0) + step[0]), round((y ?? 0) + step[1])] as [number, number];
      change((now) => ({ transform: { ...placed(now), shift: moved(placed(now).shift) } }), MOVE);
    };
    window.addEventListener("keydown", key, true);
    return () => window.removeEventListener("keydown", key, true);
  });
  return (
    <fieldset className="flex flex-col gap-1 border-t border-rule/60 pt-1.5">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <button
          className="border border-faint/60 bg-leaf px-2 aria-pressed:bg-ink aria-pressed:text-leaf"
          aria-pressed={moving}
          title="Arrow keys: 1 px; with Shift 10 px, with Alt 0.1 px"
          onClick={() => put({ moving: !moving })}
        >
          Move by arrow keys
        </button>
        <span className="num" data-testid="lift-shift">
          {(place.shift[0] ?? 0).toFixed(1)}, {(place.shift[1] ?? 0).toFixed(1)} px
        </span>
      </div>
      <Turning place={place} change={(part, what) => adjust(part, `${what} a lift`)} />
      <label className="flex items-center justify-between gap-2">
        Look at it as
        <select
          aria-label="Look at it as"
          className="min-w-0 border border-faint/60 bg-leaf px-1 py-0.5"
          value={other?.kind === "bare" ? compare : "laid"}
          onChange={(e) => (
            e.currentTarget.blur(),
            put(
              e.target.value === "laid"
                ? { other: null, compare: "divide" }
                : { view: plate, other: bare, compare: e.target.value as Compare, sheet: false, flicking: false },
            )
          )}
        >
          <option value="laid">it will be</option>
          <option value="through">see-through, over what it covers</option>
          <option value="difference">what differs from that</option>
          <option value="turns">in turns with that</option>
          <option value="divide">side by side with that</option>
        </select>
      </label>
      <div className="flex gap-3">
        <button
          className="underline"
          onClick={() =>
            void fitPlace(set, lift, (place) => change({ transform: place }, "fit a lift to what it covers"))
          }
        >
          Fit to what it covers
        </button>
        {lift.transform && (
          <button className="underline" onClick={() => change({ transform: undefined }, "a lift where it was")}>
            Back where it was
          </button>
        )}
      </div>
    </fieldset>
  );
}
