// The copying brush at the sheet: what it takes from, in which tone, how it is turned.
import type { SetDetail } from "../api/client";
import { frameNumber, isLaid } from "../picture/names";
import { useView } from "../state/store";
import { Button, Choices, Slide } from "../ui/controls";
import { Turning } from "../ui/Turning";
import type { Copying } from "./slice";

/** What a copy takes from, in one word for a list of choices. */
export const shownWord = (shown: Copying["shown"] | undefined) =>
  shown == null ? "plate" : typeof shown === "string" ? shown : `frame ${shown.frame}`;

export function shownOf(word: string): Copying["shown"] {
  const [kind, number] = word.split(" ");
  return kind === "frame" ? { frame: Number(number) } : kind === "bare" ? "bare" : "plate";
}

/** From where a copy or a mend takes its pixels. */
export function From({ set, value, change }: { set: SetDetail; value: string; change: (word: string) => void }) {
  return (
    <label className="flex items-center justify-between gap-2">
      Taken from
      <select
        aria-label="Taken from"
        className="min-w-0 border border-faint/60 bg-leaf px-1 py-0.5"
        value={value}
        onChange={(e) => (e.currentTarget.blur(), change(e.target.value))}
      >
        <option value="plate">the plate</option>
        <option value="bare">the plate without touches</option>
        {set.frames.filter(isLaid).map((f) => (
          <option key={f.id} value={`frame ${f.id}`}>
            frame {frameNumber(set, f.id)}
          </option>
        ))}
      </select>
    </label>
  );
}

export function CopyPanel({ set }: { set: SetDetail }) {
  const { copying, magnified, plane, drawing, set: put } = useView();
  const change = (part: Partial<Copying>) => put({ copying: { ...copying, ...part } });
  return (
    <section aria-label="Copying brush" className="flex flex-col gap-1.5 border-y border-rule py-1.5">
      <Choices
        label="Tone"
        value={copying.act}
        choices={[
          { value: "copy", title: "As it is" },
          { value: "mend", title: "In the tone of what is around" },
        ]}
        onChange={(act) => change({ act: act as Copying["act"] })}
      />
      <From
        set={set}
        value={shownWord(copying.shown)}
        change={(word) => change({ shown: shownOf(word), from: null, to: null })}
      />
      {copying.from && (
        <Turning place={copying.move} change={(part) => change({ move: { ...copying.move, ...part } })} />
      )}
      <Slide
        name="Border fades over"
        unit="px"
        value={Math.round(copying.soft)}
        most={60}
        change={(soft) => change({ soft })}
      />
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-ink"
          checked={copying.edges}
          onChange={(e) => change({ edges: e.target.checked })}
        />
        Strokes do not cross edges of the picture
      </label>
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-ink"
          checked={magnified}
          onChange={(e) => put({ magnified: e.target.checked })}
        />
        Magnified beside the pointer (Z)
      </label>
      <div className="flex flex-wrap gap-2">
        {copying.from && <Button onClick={() => change({ from: null, to: null })}>Another source</Button>}
        {copying.plane ? (
          <Button onClick={() => change({ plane: null, from: null, to: null })}>Not in a plane</Button>
        ) : (
          <Button
            title="Two lines that run side by side in the world: what is taken is foreshortened with them"
            onClick={() => (plane ? change({ plane, from: null, to: null }) : put({ drawing: "plane", touch: null }))}
          >
            {plane ? "In the last plane" : "In a plane"}
          </Button>
        )}
        <Button onClick={() => put({ drawing: null })} disabled={!drawing}>
          Done
        </Button>
      </div>
    </section>
  );
}
