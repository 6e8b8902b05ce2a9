// Before anything is made up: which frames show an area clear, also those that are set aside.
import { useQuery } from "@tanstack/react-query";
import { api, type Point, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { takeLoop } from "../patches/patches";
import { frameNumber } from "../picture/names";
import { useView } from "../state/store";
import { leave } from "./touches";

export function Evidence({ open, set, loop }: { open: OpenSet; set: SetDetail; loop: Point[] }) {
  const { set: put } = useView();
  const { x, y } = set.canvas ?? { x: 0, y: 0 };
  const outline = loop.map((p) => ({ x: p.x + x, y: p.y + y }));
  const found = useQuery({
    queryKey: ["evidence", set.id, set.plate_key, outline],
    queryFn: () => api.proposals(set.id, { at: outline[0] ?? { x, y }, outline, aside: true }),
  }).data;
  if (!found)
    return (
      <p className="leading-tight text-faint" role="status">
        Looking for a frame that shows it clear
      </p>
    );
  // What also brings something in is no better ground than what is made up.
  const best = found.find((p) => p.told.differs && p.told.takes > 0 && !p.told.brings.length);
  if (!best)
    return (
      <p className="leading-tight" data-testid="no-evidence">
        No frame shows it clearer than the plate: copy it, mend it, or have it made up.
      </p>
    );
  const aside = set.frames.find((f) => f.id === best.frame)?.set_aside;
  return (
    <p className="leading-tight" data-testid="evidence-first">
      A frame shows less here than the plate does: perhaps nothing has to be made up.{" "}
      <button
        className="underline"
        onClick={() => {
          leave(set);
          put({ loop: null });
          void takeLoop(open, set, loop, { frame: best.frame });
        }}
      >
        Take it from frame {frameNumber(set, best.frame)}
      </button>
      {aside && ", which is set aside"}
    </p>
  );
}
