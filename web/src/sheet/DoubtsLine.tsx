// The finite list of places that the frames do not settle by themselves: look, choose, next, until none is left.
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, type Doubt, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { goTo, nextOpen, settle, useDoubts } from "../doubts/doubts";
import { frameNumber } from "../picture/names";
import { within } from "../picture/within";
import { camera } from "../picture/camera";
import { PartPicture } from "../picture/Part";
import { useView } from "../state/store";
import { Button } from "../ui/controls";
import { plural } from "../ui/words";
import type { Fact } from "./fact";

export function doubtsFact(set: SetDetail, doubts: Doubt[] | undefined): Fact {
  if (!set.canvas || !doubts) return { text: "known once the frames are combined" };
  if (set.recipe.method !== "consensus") return { text: "only Consensus weighs the evidence" };
  const left = doubts.filter((d) => !d.settled).length;
  if (!doubts.length) return { text: "none: the frames agree everywhere" };
  const asked = doubts.filter((d) => d.settled !== "evanu").length;
  if (!asked) return { text: `none: the evidence settles ${plural(doubts.length, "place")}` };
  return left ? { text: `${plural(left, "doubt")} left of ${asked}`, open: true } : { text: `all ${asked} settled` };
}

export const useDoubtsFact = (set: SetDetail): Fact => doubtsFact(set, useDoubts(set));

export function DoubtsLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const found = useDoubts(set);
  const doubts = found ?? [];
  const { doubt: index, set: put } = useView();
  useEffect(() => () => put({ doubt: null }), [put]);
  if (set.recipe.method !== "consensus")
    return (
      <div className="flex flex-col gap-2 text-[14px]">
        <p>{`${set.recipe.method === "median" ? "The median" : "This method"} does not ask; choose Consensus under Combine to get the list of doubtful places.`}</p>
      </div>
    );
  if (!found || !set.canvas) return <p className="text-[14px]">The list comes with the plate.</p>;
  if (!doubts.length) return <p className="text-[14px]">Every place is settled: the frames agree on what is behind.</p>;
  const doubt = index == null ? undefined : doubts[index];
  const asked = doubts.filter((d) => d.settled !== "evanu");
  const sure = doubts.length - asked.length;
  const done = (how: number | null | "keep" | "reopen") => {
    if (!doubt || index == null) return;
    settle(open, set, doubt, how);
    if (how !== "reopen") goTo(doubts, nextOpen(doubts, index, 1));
  };
  return (
    <div className="flex flex-col gap-2 text-[14px]">
      {!asked.length && <p>The frames leave nothing to ask.</p>}
      <div className="flex items-center gap-2">
        {asked.length > 0 && (
          <>
            <Button onClick={() => goTo(doubts, nextOpen(doubts, index ?? 0, -1))}>Before</Button>
            <Button onClick={() => goTo(doubts, index == null ? nextOpen(doubts, -1, 1) : nextOpen(doubts, index, 1))}>
              {index == null ? "Look at the first" : "Next"}
            </Button>
          </>
        )}
        {index != null && (
          <button className="underline" onClick={() => (put({ doubt: null, pinned: null }), camera.whole())}>
            Whole picture
          </button>
        )}
      </div>
      {doubt && index != null && (
        <section aria-label="Doubt" data-doubt={index} data-settled={doubt.settled ?? "no"}>
          <h3 className="font-semibold">
            {doubt.settled === "evanu" ? "Settled by Evanu" : `Doubt ${asked.indexOf(doubt) + 1} of ${asked.length}`}
            <span className="num ml-2 font-normal text-faint">{answer(set, doubt)}</span>
          </h3>
          <p className="leading-tight">{doubt.reason}</p>
          <Stories set={set} doubt={doubt} choose={done} />
          <div className="mt-2 flex gap-2">
            {doubt.settled ? (
              <Button onClick={() => done("reopen")}>Open again</Button>
            ) : (
              <>
                <Button onClick={() => done(null)}>Accept as it is</Button>
                <Button
                  title="What the plate shows here belongs here: nothing taken by hand will change it"
                  onClick={() => done("keep")}
                >
                  It is real, keep it
                </Button>
              </>
            )}
          </div>
        </section>
      )}
      {asked.length > 0 && <Places set={set} doubts={doubts} by={null} at={index} />}
      {sure > 0 && (
        <details>
          <summary className="cursor-pointer text-faint">{plural(sure, "place")} settled by Evanu</summary>
          <p className="leading-tight">
            Another story came close, but the evidence tells them apart. LookThrough, and open again what you see
            otherwise.
          </p>
          <Places set={set} doubts={doubts} by="evanu" at={index} />
        </details>
      )}
    </div>
  );
}

/** How a doubt stands, in words. */
function answer(set: SetDetail, doubt: Doubt): string {
  const sure = `${Math.round(100 * doubt.confidence)} % sure`;
  if (doubt.settled !== "you") return sure;
  return doubt.frame == null ? "accepted by you" : `settled by you: frame ${frameNumber(set, doubt.frame)}`;
}

/** The places that the evidence settles, or the others; pressing one goes there. */
function Places({ set, doubts, by, at }: { set: SetDetail; doubts: Doubt[]; by: "evanu" | null; at: number | null }) {
  const listed = doubts.map((d, k) => [d, k] as const).filter(([d]) => (d.settled === "evanu") === (by === "evanu"));
  return (
    <ol className="max-h-60 overflow-y-auto">
      {listed.map(([d, k], number) => (
        <li key={`${d.bbox.x} ${d.bbox.y}`}>
          <button
            className={`flex w-full items-center gap-2 border-b border-rule/60 px-1 py-0.5 text-left hover:bg-leaf ${k === at ? "bg-leaf font-semibold" : ""}`}
            title={`${d.place.width} × ${d.place.height} px`}
            onClick={() => goTo(doubts, k)}
          >
            <PartPicture set={set} place={d.place} width={54} height={36} />
            <span>
              {number + 1}.{" "}
              {d.settled === "you"
                ? "settled by you"
                : d.still
                  ? "stood still"
                  : plural(d.stories.length, "story", "stories")}
            </span>
          </button>
        </li>
      ))}
    </ol>
  );
}

const WIDTH = 130;
const HEIGHT = 96;

/** What is to be seen at the place, best first, as crops; pressing one takes the place from that frame. */
function Stories({ set, doubt, choose }: { set: SetDetail; doubt: Doubt; choose: (frame: number) => void }) {
  const { x, y, width, height } = doubt.place;
  const all = set.canvas ?? { width: 0, height: 0 };
  // No crop is larger than the picture, which would be seen with black around it.
  const most = Math.floor(Math.log2(Math.min(all.width / WIDTH, all.height / HEIGHT)));
  const level = Math.max(0, Math.min(most, Math.ceil(Math.log2(Math.max(width / 90, height / 66)))));
  const [cx, cy] = [
    within(x + width / 2, WIDTH * 2 ** level, all.width),
    within(y + height / 2, HEIGHT * 2 ** level, all.height),
  ];
  const query = { x: Math.round(10 * cx) / 10, y: Math.round(10 * cy) / 10, level, width: WIDTH, height: HEIGHT };
  const look = useQuery({
    queryKey: ["story", set.id, set.frame_key, query],
    queryFn: ({ signal }) => api.look(set.id, query, signal),
  }).data;
  return (
    <ul className="mt-1 grid grid-cols-2 gap-2">
      {doubt.stories.slice(0, 6).map((frames, k) => {
        const first = frames[0] ?? 0;
        const at = look?.crops.findIndex((c) => c.frame === first) ?? -1;
        return (
          <li key={first}>
            <button
              className="block text-left hover:bg-leaf"
              aria-label={`Take this place from frame ${frameNumber(set, first)}`}
              onClick={() => choose(first)}
            >
              <span
                className={`block border-2 ${k === 0 ? "border-verdigris" : "border-dashed border-persimmon"} ${look ? "" : "bg-rule"}`}
                style={{
                  width: WIDTH - 6,
                  height: HEIGHT,
                  ...(look && at >= 0
                    ? { backgroundImage: `url(${look.strip})`, backgroundPosition: `${-at * look.width - 3}px 0` }
                    : {}),
                }}
              />
              <span className="num text-[13px]">
                {k === 0 ? "proposed: " : ""}frame{" "}
                {frames
                  .slice(0, 4)
                  .map((f) => frameNumber(set, f))
                  .join(", ")}
                {frames.length > 4 ? "…" : ""}
              </span>
            </button>
          </li>
        );
      })}
    </ul>
  );
}
