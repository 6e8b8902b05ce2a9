// A last look: what of the touches can still be seen, from afar and in turns with what was there before.
import { useQuery } from "@tanstack/react-query";
import { api, type Fault, type SetDetail, type Touch } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { camera } from "../picture/camera";
import { bare, plate } from "../picture/views";
import { useView } from "../state/store";
import { Button } from "../ui/controls";
import { plural } from "../ui/words";
import { anotherSource, changeTouch, moveOf, reopen } from "./touches";

/** What mends a fault, in one act; null where that takes a choice. */
function mended(touch: Touch, fault: Fault): { words: string; part: Partial<Touch> } | null {
  const { act } = touch;
  if (fault === "border") return { words: "Let it fade farther", part: { feather: Math.max(4, 2 * touch.feather) } };
  if (fault === "tone" && act !== "flare" && "copy" in act)
    return { words: "Mend instead", part: { act: { mend: { transform: act.copy.transform, only: "both" } } } };
  return null;
}

export function Seen({ open, set, show }: { open: OpenSet; set: SetDetail; show: (touch: number) => void }) {
  const { other, compare, set: put } = useView();
  const found = useQuery({
    queryKey: ["seen", set.id, set.plate_key],
    queryFn: () => api.touchesSeen(set.id),
  }).data;
  const turns = other?.kind === "bare" && compare === "turns";
  return (
    <section aria-label="What can still be seen" className="flex flex-col gap-1 border-t border-rule pt-1.5">
      <p className="font-semibold">
        {!found
          ? "Looking at their borders"
          : found.length
            ? `${plural(found.length, "touch", "touches")} can still be seen`
            : "None can be seen by its border, tone or texture"}
      </p>
      <ul className="flex flex-col gap-1">
        {found?.map(({ touch, faults }) => (
          <li key={touch} data-seen={touch}>
            <button className="text-left leading-tight hover:bg-leaf" onClick={() => show(touch)}>
              <span className="num">{touch + 1}.</span> {faults.map((f) => f.words).join("; ")}
            </button>
            <div className="flex flex-wrap gap-x-3">
              {faults.map(({ fault }) => {
                const laid = set.recipe.touches[touch];
                const mend = laid && mended(laid, fault);
                return mend ? (
                  <button
                    key={fault}
                    className="underline"
                    onClick={() => changeTouch(open, touch, () => mend.part, "mend what can be seen of a touch")}
                  >
                    {mend.words}
                  </button>
                ) : null;
              })}
              {faults
                .filter((f) => f.outline.length > 2)
                .slice(0, 1)
                .map(({ outline }) => (
                  <button
                    key="next"
                    className="underline"
                    onClick={() => {
                      const { x, y } = set.canvas ?? { x: 0, y: 0 };
                      put({ loop: outline.map((p) => ({ x: p.x - x, y: p.y - y })), touch: null, seen: false });
                    }}
                  >
                    Retouch that place next
                  </button>
                ))}
              {faults.some((f) => ["soft", "rough", "repeats"].includes(f.fault)) &&
                (moveOf(set.recipe.touches[touch]?.act ?? "flare") ? (
                  <button className="underline" onClick={() => void anotherSource(open, set, touch)}>
                    Another source
                  </button>
                ) : (
                  <button className="underline" onClick={() => (put({ touch: null }), reopen(set, touch))}>
                    Other variants
                  </button>
                ))}
            </div>
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap gap-2">
        <Button
          title="The whole picture at a quarter of its size"
          onClick={() => (put({ view: plate }), camera.afar())}
        >
          From afar
        </Button>
        <Button
          aria-pressed={turns}
          onClick={() =>
            put(
              turns
                ? { other: null, compare: "divide" }
                : { view: plate, other: bare, compare: "turns", sheet: false, flicking: false },
            )
          }
        >
          In turns with before
        </Button>
      </div>
    </section>
  );
}
