// Corners and borders that no frame shows: filled instead of cut off.
import { useQuery } from "@tanstack/react-query";
import { api, type Point, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf } from "../patches/patches";
import { camera } from "../picture/camera";
import { plate } from "../picture/views";
import { useView } from "../state/store";
import { Button } from "../ui/controls";
import { plural } from "../ui/words";
import { fillMissing } from "./touches";

/** Pixels beyond the reference that are worth a word. */
const WORTH = 4;

export function Missing({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { set: put } = useView();
  const canvas = set.canvas;
  const found = useQuery({
    queryKey: ["missing", set.id, set.plate_key],
    queryFn: () => api.missing(set.id),
    enabled: canvas != null && set.plate_key != null && !set.draft,
  }).data;
  if (!found || !canvas) return null;
  if (!found.outlines.length)
    return set.recipe.canvas === "reference" && found.beyond >= WORTH ? (
      <p className="leading-tight text-faint">
        Frames show up to {found.beyond} px more than the reference&apos;s framing.{" "}
        <button
          className="underline"
          onClick={() => void open.change("show all that any frame shows", { canvas: "whole" })}
        >
          Show all of it
        </button>
      </p>
    ) : null;
  const here = (outline: Point[]) => outline.map((p) => ({ x: p.x - canvas.x, y: p.y - canvas.y }));
  const look = (outline: Point[]) => {
    put({ loop: here(outline), touch: null, view: plate, sheet: false, flicking: false });
    camera.show(boxOf(here(outline)));
  };
  const percent = 100 * found.share;
  return (
    <section aria-label="What no frame shows" className="flex flex-col gap-1 border-l-2 border-rule pl-2">
      <p className="leading-tight">
        {plural(found.outlines.length, "place")} along the border no frame shows,{" "}
        <span className="num">{percent < 0.1 ? "under 0.1" : percent.toFixed(1)} %</span> of the plate: black until
        filled or cut off.
      </p>
      <div className="flex flex-wrap items-center gap-x-2 gap-y-1">
        <Button onClick={() => void fillMissing(open, set, found.outlines)}>
          {found.outlines.length > 1 ? "Fill them all" : "Fill it"}
        </Button>
        {found.outlines.map((outline, k) => (
          <button key={k} className="num underline" aria-label={`Empty place ${k + 1}`} onClick={() => look(outline)}>
            {k + 1}
          </button>
        ))}
        <button
          className="underline"
          onClick={() => void open.change("keep what all frames share", { canvas: "common" })}
        >
          Cut off instead
        </button>
      </div>
    </section>
  );
}
