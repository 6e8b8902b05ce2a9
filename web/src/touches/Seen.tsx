// A last look: what of the touches can still be seen, from afar and in turns with what was there before.
import { useQuery } from "@tanstack/react-query";
import { api, type SetDetail } from "../api/client";
import { camera } from "../picture/camera";
import { bare, plate } from "../picture/views";
import { useView } from "../state/store";
import { Button } from "../ui/controls";
import { plural } from "../ui/words";

export function Seen({ set, show }: { set: SetDetail; show: (touch: number) => void }) {
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
