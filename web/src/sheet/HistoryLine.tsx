// Every act with a small picture: return to any state, keep branches, compare a state with the plate.
import { useQuery } from "@tanstack/react-query";
import { api, statePicture, type SetDetail, type State } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { useView } from "../state/store";
import { isSame, plate, stateView } from "../picture/views";
import { tell, tellError } from "../ui/Notices";
import { plural } from "../ui/words";
import type { Fact } from "./fact";

export const historyFact = (set: SetDetail): Fact => ({ text: set.undo ? `last: ${set.undo}` : "nothing decided yet" });

/** The states that lead to the current one, and those that go on from there to the newest end. */
export function branch(states: State[]): Set<number> {
  const of = new Map(states.map((s) => [s.seq, s]));
  const on = new Set<number>();
  const current = states.find((s) => s.current);
  for (let s = current; s; s = s.parent == null ? undefined : of.get(s.parent)) on.add(s.seq);
  for (let s = current; s;) {
    const next: State | undefined = states.filter((o) => o.parent === s?.seq).at(-1);
    if (next) on.add(next.seq);
    s = next;
  }
  return on;
}

const words = (s: State) => (s.seq === 0 ? "The set as it came" : s.label);

/** The most that are shown at once. */
const MOST = 60;

export function HistoryLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { other, set: put } = useView();
  const states = useQuery({ queryKey: ["history", set.id], queryFn: () => api.history(set.id) }).data;
  if (!states) return <p className="text-[14px]">The list is being read.</p>;
  const on = branch(states);
  const others = states.length - on.size;
  const compare = async (state: State) => {
    const view = stateView(state.seq);
    if (isSame(other, view)) return put({ other: null });
    try {
      const found = await api.stateKey(set.id, state.seq);
      if (found.canvas.width !== set.canvas?.width || found.canvas.height !== set.canvas.height)
        return tell("That state covers another area: return to it to see it.");
      put({
        view: plate,
        other: view,
        compare: "divide",
        sheet: false,
        flicking: false,
        states: {
          ...useView.getState().states,
          [state.seq]: {
            key: found.plate_key,
            label: words(state),
            width: found.canvas.width,
            height: found.canvas.height,
          },
        },
      });
    } catch (e) {
      tellError(e);
    }
  };
  return (
    <div className="flex flex-col gap-1 text-[14px]">
      <p className="leading-tight text-faint">
        Press a state to return to it; what you decide from there begins a branch, and nothing is lost.{" "}
        {others > 0 && `${plural(others, "state")} on other branches, set in.`}
      </p>
      <ol aria-label="History" className="max-h-80 overflow-y-auto">
        {states
          .slice(-MOST)
          .reverse()
          .map((s) => (
            <li
              key={s.seq}
              data-state={s.seq}
              data-current={s.current}
              className={`flex items-center gap-2 border-b border-rule/60 py-0.5 ${s.current ? "bg-leaf font-semibold" : ""} ${on.has(s.seq) ? "" : "ml-4 border-l-2 border-l-rule pl-2"}`}
            >
              <button
                className="flex min-w-0 grow items-center gap-2 text-left hover:bg-leaf"
                aria-current={s.current}
                title={s.made ? new Date(1000 * s.made).toLocaleString("en-GB") : undefined}
                onClick={() => !s.current && open.goTo(s.seq)}
              >
                <img
                  src={statePicture(set.id, s, 128)}
                  alt=""
                  loading="lazy"
                  className="h-9 w-14 shrink-0 bg-rule object-cover"
                  onError={(e) => (e.currentTarget.style.visibility = "hidden")}
                />
                <span className="leading-tight">{words(s)}</span>
              </button>
              {!s.current && (
                <button
                  className="shrink-0 px-1 underline aria-pressed:font-semibold"
                  aria-pressed={isSame(other, stateView(s.seq))}
                  onClick={() => void compare(s)}
                >
                  Compare
                </button>
              )}
            </li>
          ))}
      </ol>
    </div>
  );
}
