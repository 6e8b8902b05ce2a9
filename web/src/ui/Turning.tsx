// How something is turned, enlarged and mirrored, by numbers.
import type { PatchTransform } from "../api/client";

type Turned = Pick<PatchTransform, "turn" | "scale" | "mirror">;

const number = "num w-16 border border-faint/60 bg-white px-1 text-right";

export function Turning({
  place,
  change,
}: {
  place: Turned;
  /** What changes, and what that is called. */
  change: (part: Partial<Turned>, what: "turn" | "size of" | "mirror") => void;
}) {
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
      <label className="flex items-center gap-1">
        Turn
        <input
          type="number"
          step={0.1}
          className={number}
          aria-label="Turn in degrees"
          value={place.turn}
          onChange={(e) => change({ turn: Math.max(-180, Math.min(180, Number(e.target.value) || 0)) }, "turn")}
        />
        °
      </label>
      <label className="flex items-center gap-1">
        Size
        <input
          type="number"
          step={0.5}
          className={number}
          aria-label="Size in percent"
          value={Math.round(1000 * place.scale) / 10}
          onChange={(e) =>
            Number(e.target.value) >= 10 &&
            Number(e.target.value) <= 1000 &&
            change({ scale: Number(e.target.value) / 100 }, "size of")
          }
        />
        %
      </label>
      <label className="flex items-center gap-1">
        <input
          type="checkbox"
          className="accent-ink"
          checked={place.mirror}
          onChange={(e) => change({ mirror: e.target.checked }, "mirror")}
        />
        Mirrored
      </label>
    </div>
  );
}
