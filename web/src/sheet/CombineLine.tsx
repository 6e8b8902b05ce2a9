// How frames become one plate: methods by outcome, and what the plate covers.
import { useQuery } from "@tanstack/react-query";
import { api, evidence as evidenceOf, type Moving, type Recipe, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { begun, frameOf, laid, type Source } from "../patches/patches";
import { frameNumber } from "../picture/names";
import { useView } from "../state/store";
import { agreement, plate } from "../picture/views";
import { Choices, type Choice } from "../ui/controls";
import { useLater } from "../ui/useLater";
import { methodTitle, plural } from "../ui/words";
import type { Fact } from "./fact";

const methods: Choice[] = [
  {
    value: "consensus",
    title: "Empty",
    formula: "consensus",
    note: "Finds what is behind, also where it is clear in few frames, and lists what stays in doubt.",
  },
  {
    value: "median",
    title: "What is there most of the time",
    formula: "median",
    note: "The middle value, channel by channel. No doubts are told.",
  },
  {
    value: "everybody",
    title: "Everybody at once",
    formula: "everybody",
    note: "The opposite of empty: all who were ever there.",
  },
  {
    value: "clipped",
    title: "Smooth, without strays",
    formula: "clipped mean",
    note: "The average of what lies near the median.",
  },
  {
    value: "mean",
    title: "Everybody, faintly",
    formula: "mean",
    note: "The average of all: silky movement, less noise, ghosts.",
  },
  {
    value: "darkest",
    title: "No glare",
    formula: "darkest",
    note: "For reflections that move. Grows darker with every frame.",
  },
  { value: "lightest", title: "Trails of light", formula: "lightest", note: "Keeps every lamp and spark." },
];

const canvases: Choice[] = [
  { value: "reference", title: "The reference frame's framing" },
  { value: "common", title: "Only what all frames share" },
  { value: "whole", title: "All that any frame shows" },
];

const framings: Record<Recipe["canvas"], string> = {
  reference: "keep the reference's framing",
  common: "keep what all frames share",
  whole: "show all that any frame shows",
};

export function useCombineFact(set: SetDetail): Fact {
  const key = useLater(set.plate_key);
  const agreement = useQuery({
    queryKey: ["agreement", set.id, key],
    queryFn: () => api.agreement(set.id),
    enabled: key != null && key === set.plate_key && !set.draft,
    placeholderData: (before) => before,
  });
  const moving = useMoving(set)?.length;
  if (!set.canvas) return { text: "no plate yet" };
  const areas = moving
    ? `, ${plural(moving, "area")} that ${moving === 1 ? "moves" : "move"} and belong${moving === 1 ? "s" : ""}`
    : "";
  const share = agreement.data ? `, ${(agreement.data.mean * 100).toFixed(1)} % agreed` : "";
  return { text: `${methodTitle(set.recipe.method)}${share}${areas}` };
}

export function CombineLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { view, evidence, set: put } = useView();
  return (
    <div className="flex flex-col gap-3">
      <MovingAreas open={open} set={set} />
      <Choices
        label="Method"
        value={set.recipe.method}
        choices={methods}
        onChange={(method) => open.change(`combine by ${method}`, { method })}
      />
      <div>
        <div className="text-[14px] text-faint">The plate covers</div>
        <Choices
          label="Canvas"
          value={set.recipe.canvas}
          choices={canvases}
          onChange={(chosen) => {
            const canvas = chosen as Recipe["canvas"];
            void open.change(framings[canvas], { canvas });
          }}
        />
      </div>
      {set.recipe.method === "consensus" && set.plate_key && !set.draft && (
        <div className="flex flex-col items-start gap-1 text-[14px]">
          <button className="underline" onClick={() => put({ evidence: !evidence, view: plate })}>
            {evidence ? "Take the hatching away" : "Hatch where few frames agree"}
          </button>
          {evidence && (
            <p className="leading-tight text-faint">
              Red lines: a single moment shows what was chosen. White lines: several do, but less than half. Point at a
              place to read from which frames it comes.
            </p>
          )}
          <a
            className="underline"
            href={evidenceOf(set.id, set.plate_key, "origin")}
            download={`${set.name} origin.png`}
          >
            Save where each place comes from
          </a>
        </div>
      )}
      <button
        className="self-start text-[14px] underline"
        disabled={!set.canvas}
        onClick={() => put({ view: view.kind === "agreement" ? plate : agreement })}
      >
        {view.kind === "agreement" ? "Back to the plate" : "Show where frames agree"}
      </button>
    </div>
  );
}

/** The areas that move and belong, once there is a plate. */
function useMoving(set: SetDetail): Moving[] | undefined {
  const enabled = set.plate_key != null && !set.draft;
  return useQuery({
    queryKey: ["moving", set.id, set.plate_key],
    queryFn: () => api.moving(set.id),
    enabled,
    placeholderData: (before) => before,
  }).data;
}

/** Whether two boxes are the same. */
function sameBox(a: Moving["bbox"], b: Moving["bbox"]) {
  return a.x === b.x && a.y === b.y && a.width === b.width && a.height === b.height;
}

/** Areas that move and belong, such as cloud or leaves: what is to be done with each. */
function MovingAreas({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { set: put } = useView();
  const found = useMoving(set);
  const canvas = set.canvas;
  if (!found?.length || !canvas || set.reference == null) return null;
  const on = set.reference;
  const taken = (area: Moving, source: Source) => ({
    ...begun(set, area.outline, { method: "mean" }),
    on,
    source,
    snap_to_edges: true,
  });
  const decide = (area: Moving, source: Source, label: string) => {
    void open.change(label, { patches: laid(set.recipe.patches, taken(area, source)) });
  };
  const without = (area: Moving) =>
    set.recipe.patches.filter((l) => JSON.stringify(l.outline) !== JSON.stringify(area.outline));
  // What drifts comes from one moment unless it is given back; what trembles is lifted.
  const kept = (area: Moving) => set.recipe.settled.filter((s) => !(s.open && sameBox(s.bbox, area.bbox)));
  const whole = (area: Moving) => {
    const label = `one moment whole, from frame ${frameNumber(set, area.frame)}`;
    if (!area.by_itself) return decide(area, { frame: area.frame }, label);
    void open.change(label, { patches: without(area), settled: kept(area) });
  };
  const eachWhole = () => {
    const lifted = found.filter((area) => !area.by_itself);
    const lifts = lifted.reduce((all, area) => laid(all, taken(area, { frame: area.frame })), set.recipe.patches);
    const settled = set.recipe.settled.filter(
      (s) => !found.some((a) => a.by_itself && s.open && sameBox(s.bbox, a.bbox)),
    );
    void open.change("one moment whole where it moves", { patches: lifts, settled });
  };
  const give = (area: Moving) => {
    const settled = area.by_itself ? [...kept(area), { bbox: area.bbox, frame: null, open: true }] : kept(area);
    void open.change("an area that moves as the method has it", { patches: without(area), settled });
  };
  const show = (area: Moving | null) =>
    put({ loop: area && area.outline.map((p) => ({ x: p.x - canvas.x, y: p.y - canvas.y })), pinned: null });
  return (
    <section aria-label="Areas that move and belong" className="text-[14px]">
      <div className="text-faint">Areas that move and belong</div>
      {found.length > 1 && found.some((area) => !area.whole && !area.settled) && (
        <button className="underline" onClick={eachWhole}>
          One moment for each
        </button>
      )}
      <ol>
        {found.map((area, k) => {
          const chosen = set.recipe.patches.find((l) => JSON.stringify(l.outline) === JSON.stringify(area.outline));
          const frame = chosen && frameOf(chosen.source);
          return (
            <li
              key={k}
              className="border-b border-rule/60 py-1"
              data-moving={k}
              onPointerEnter={() => show(area)}
              onPointerLeave={() => show(null)}
            >
              <div>
                {k + 1}. {area.what}, <span className="num">{(100 * area.share).toFixed(1)} %</span> of the picture
              </div>
              <div className="flex flex-wrap gap-x-3">
                <button
                  className={frame != null || (area.whole && !chosen) ? "font-semibold" : "underline"}
                  onClick={() => whole(area)}
                >
                  One moment, frame {frameNumber(set, frame ?? area.frame)}
                </button>
                <button
                  className={chosen && frame == null ? "font-semibold" : "underline"}
                  onClick={() => decide(area, { method: "mean" }, "a smooth average where it moves")}
                >
                  Smooth
                </button>
                <button className={chosen || area.whole ? "underline" : "font-semibold"} onClick={() => give(area)}>
                  As the method
                </button>
              </div>
            </li>
          );
        })}
      </ol>
      <p className="mt-1 text-[13px] leading-tight text-faint">
        {found.some((area) => area.by_itself) &&
          "What drifts comes from one moment by itself, so that no cloud is torn. "}
        What is lifted here can be changed under Lifts: another frame, strength, border.
      </p>
    </section>
  );
}
