// The clip that the frames come from: whether it stands still, what is covered in it, who touches that, and the finished files.
import { useQuery } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { useState } from "react";
import { api, type ClipFile, type ClipState, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { coverInClip, lay, showClip, takeBack, useClip } from "../clip/clip";
import { timeWords, useTime } from "../clip/time";
import { plate } from "../picture/views";
import { useView } from "../state/store";
import { Button, Choices, Progress, Slide } from "../ui/controls";
import { tellError } from "../ui/Notices";
import { plural } from "../ui/words";
import type { Fact } from "./fact";

export function useClipFact(set: SetDetail): Fact {
  const clip = useClip(set);
  if (!set.clip) return { text: "" };
  if (!clip) return { text: "being looked at" };
  const length = `${(clip.seconds[clip.seconds.length - 1] ?? 0).toFixed(1)} s`;
  if (clip.covered <= 0) return { text: `${length}, nothing covered` };
  if (!clip.laid) return { text: `${percent(clip.covered)} covered, to be laid`, open: true };
  const count = clip.laid.crossings.length;
  return { text: `${percent(clip.covered)} covered, ${count ? plural(count, "contact") : "nobody in front"}` };
}

const percent = (share: number) => `${(100 * share).toFixed(share < 0.01 ? 2 : 1)} %`;

export function ClipLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const clip = useClip(set);
  const { clip: shown, loop, set: put } = useView();
  if (!clip) return <p className="text-[14px] text-faint">The clip is being looked at, frame by frame.</p>;
  const busy = set.run?.kind === "clip" && (set.run.state === "running" || set.run.state === "queued");
  const remarks = [...clip.remarks, ...(clip.laid?.remarks ?? [])];
  return (
    <div className="flex flex-col gap-3 text-[14px]">
      <p className="leading-tight text-faint">
        {clip.name}: <span className="num">{clip.size.join(" × ")}</span> px,{" "}
        <span className="num">{+clip.rate.toFixed(2)}</span> frames/s, {clip.codec}
        {clip.sound ? ", with sound" : ", no sound"}
        {clip.of > clip.shots.length ? `; ${plural(clip.shots.length, "shot")} of ${clip.of}` : ""}
      </p>
      <ul aria-label="What is to be known about it" className="flex flex-col gap-1">
        {remarks.length === 0 && (
          <li className="leading-tight">It stands still: nothing moves but what is before it.</li>
        )}
        {remarks.map((r) => (
          <li key={r.words} className="leading-tight">
            {r.frame != null && r.frame > 0 ? (
              <button className="text-left underline decoration-faint/50" onClick={() => showClip(r.frame ?? 0)}>
                {r.words}
              </button>
            ) : (
              r.words
            )}
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap gap-2">
        <Button
          aria-pressed={shown}
          className="aria-pressed:bg-ink aria-pressed:text-leaf"
          onClick={() => (shown ? put({ clip: false, view: plate }) : showClip())}
        >
          {shown ? "Back to the plate" : "Show the clip"}
        </Button>
        {loop && (
          <Button onClick={() => coverInClip(open, set, loop, null)} title="By what the plate shows there">
            Cover it in the clip
          </Button>
        )}
      </div>
      {loop && <Elsewhen open={open} set={set} loop={loop} />}
      <Covered open={open} set={set} clip={clip} />
      {clip.covered > 0 && !clip.laid && (
        <Button strong className="self-start" disabled={busy} onClick={() => (showClip(), lay(set))}>
          {busy ? "Being laid" : "Lay the patch on every frame"}
        </Button>
      )}
      {(clip.laid || clip.crossings.length > 0) && clip.covered > 0 && <Contacts open={open} set={set} clip={clip} />}
      <Range open={open} set={set} clip={clip} />
      <Files set={set} clip={clip} />
      <label className="inline-flex w-fit cursor-pointer items-center gap-1.5 border border-faint/60 bg-leaf px-2.5 py-1 focus-within:outline-2 hover:bg-white">
        Bring a still back in
        <input
          type="file"
          accept="image/*,.tif,.tiff"
          aria-label="A still that was retouched elsewhere"
          className="sr-only"
          onChange={(e) => {
            const file = e.target.files?.[0];
            if (file) void takeBack(open, set, file);
            e.target.value = "";
          }}
        />
      </label>
      <p className="-mt-2 text-[13px] leading-tight text-faint">
        The plate, retouched elsewhere: only where it was changed it is laid.
      </p>
    </div>
  );
}

/** By the same clip at another time, where something lives. */
function Elsewhen({ open, set, loop }: { open: OpenSet; set: SetDetail; loop: { x: number; y: number }[] }) {
  const [later, setLater] = useState("-2");
  const seconds = Number(later.replace(",", "."));
  return (
    <form
      className="flex items-baseline gap-1.5 leading-tight"
      onSubmit={(e) => {
        e.preventDefault();
        if (seconds) coverInClip(open, set, loop, seconds);
      }}
    >
      <label className="grow">
        Something lives there (leaves, water)? From the clip{" "}
        <input
          aria-label="Seconds later"
          className="num w-12 border border-faint/60 bg-leaf px-1 text-right"
          value={later}
          onChange={(e) => setLater(e.target.value)}
        />{" "}
        s later
      </label>
      <Button type="submit" disabled={!seconds}>
        Cover
      </Button>
    </form>
  );
}

/** What is covered: all that was done by hand on the plate, and what was drawn for the clip alone. */
function Covered({ open, set, clip }: { open: OpenSet; set: SetDetail; clip: ClipState }) {
  const { touches, patches, clip: repair } = set.recipe;
  const own = touches.filter((t) => !t.disabled).length;
  const lifts = patches.filter((p) => !p.disabled).length;
  if (!own && !lifts && !repair.held.length)
    return (
      <p className="leading-tight text-faint" data-testid="clip-nothing">
        What you retouch or lift on the plate is held in every frame of the clip, in its light and grain. For a place
        that the plate shows clear by itself: draw around it (L), then cover it here.
      </p>
    );
  return (
    <div>
      <p className="leading-tight">
        {percent(clip.covered)} of the picture is covered
        {own > 0 && `, by ${plural(own, "touch", "touches")}`}
        {lifts > 0 && `${own ? " and" : ", by"} ${plural(lifts, "lift")}`}, to the very last frame.
      </p>
      <ol aria-label="Covered in the clip alone">
        {repair.held.map((held, k) => (
          <li key={k} className="flex items-baseline justify-between gap-2 border-b border-rule/60 px-1 py-0.5">
            <span>
              {k + 1}.{" "}
              {held.still != null
                ? "By a still that came back"
                : held.later == null
                  ? "By the plate"
                  : `By the clip ${held.later} s later`}
            </span>
            <button
              className="underline"
              onClick={() =>
                void open.change("no longer cover a place in the clip", (now) => ({
                  clip: { ...now.clip, held: now.clip.held.filter((_, i) => i !== k) },
                }))
              }
            >
              Take back
            </button>
          </li>
        ))}
      </ol>
    </div>
  );
}

/** Who touches the area, the worst first, and what is brushed where that was not seen rightly. */
function Contacts({ open, set, clip }: { open: OpenSet; set: SetDetail; clip: ClipState }) {
  const { at, mending, carried, set: put } = useTime();
  const { crossings } = clip;
  const strokes = set.recipe.clip.strokes;
  const here = strokes.filter((s) => s.frame === at).length;
  const brushed = "aria-pressed:bg-ink aria-pressed:text-leaf";
  const mend = (what: "front" | "patch") => {
    showClip(at);
    put({ mending: mending === what ? null : what });
  };
  return (
    <div className="flex flex-col gap-2">
      <p className="font-semibold">{crossings.length ? "Contacts, the worst first" : "Nobody touches the area"}</p>
      <ol aria-label="Contacts" className="max-h-40 overflow-y-auto">
        {crossings.map((c) => (
          <li key={c.first}>
            <button
              className={`flex w-full justify-between gap-2 border-b border-rule/60 px-1 py-0.5 text-left hover:bg-leaf ${c.first <= at && at <= c.last ? "bg-leaf font-semibold" : ""}`}
              onClick={() => showClip(c.worst)}
            >
              <span className="num">
                {timeWords(clip.seconds[c.first] ?? 0)} to {timeWords(clip.seconds[c.last] ?? 0)}
              </span>
              <span className="num">{percent(c.most)}</span>
            </button>
          </li>
        ))}
      </ol>
      <div className="flex flex-wrap gap-2">
        <Button
          aria-pressed={mending === "front"}
          className={brushed}
          title="Where somebody in front is hidden by the patch"
          onClick={() => mend("front")}
        >
          Brush who is in front
        </Button>
        <Button
          aria-pressed={mending === "patch"}
          className={brushed}
          title="Where the frame shows though nobody is there"
          onClick={() => mend("patch")}
        >
          Brush the patch
        </Button>
      </div>
      {mending && (
        <Slide
          name="Followed to each side over"
          unit="frames"
          none="this frame alone"
          value={carried}
          most={25}
          change={(value) => put({ carried: value })}
        />
      )}
      {strokes.length > 0 && (
        <p className="leading-tight">
          {plural(strokes.length, "stroke")} in {plural(new Set(strokes.map((s) => s.frame)).size, "frame")}
          {here > 0 && (
            <>
              {"; "}
              <button
                className="underline"
                onClick={() =>
                  void open.change(`take back what was brushed at frame ${at + 1}`, (now) => ({
                    clip: { ...now.clip, strokes: now.clip.strokes.filter((s) => s.frame !== at) },
                  }))
                }
              >
                take back those of this frame
              </button>
            </>
          )}
        </p>
      )}
    </div>
  );
}

/** From when to when it is covered. */
function Range({ open, set, clip }: { open: OpenSet; set: SetDetail; clip: ClipState }) {
  const at = useTime((s) => s.at);
  const { from, to } = set.recipe.clip;
  const now = clip.seconds[at] ?? 0;
  const change = (part: { from?: number | null; to?: number | null }, label: string) =>
    void open.change(label, (r) => ({ clip: { ...r.clip, ...part } }));
  const words =
    from == null && to == null ? "all of it" : `${timeWords(from ?? 0)} to ${to == null ? "the end" : timeWords(to)}`;
  return (
    <p className="leading-tight">
      Covered: <span className="num">{words}</span>.{" "}
      <button
        className="underline"
        disabled={to != null && now >= to}
        onClick={() => change({ from: now }, "cover the clip from here")}
      >
        From this frame
      </button>
      ,{" "}
      <button
        className="underline"
        disabled={from != null && now <= from}
        onClick={() => change({ to: now }, "cover the clip until here")}
      >
        until this frame
      </button>
      {(from != null || to != null) && (
        <>
          ,{" "}
          <button className="underline" onClick={() => change({ from: null, to: null }, "cover all of the clip")}>
            all of it
          </button>
        </>
      )}
    </p>
  );
}

/** Finished files. */
function Files({ set, clip }: { set: SetDetail; clip: ClipState }) {
  const [file, setFile] = useState<ClipFile>("clip");
  const [run, setRun] = useState<number | null>(null);
  const state = useQuery({ queryKey: ["run", run], queryFn: () => api.run(run ?? 0), enabled: run !== null }).data;
  const busy = state && (state.state === "running" || state.state === "queued");
  return (
    <div className="flex flex-col gap-2">
      <Choices
        label="File"
        value={file}
        choices={[
          { value: "clip", title: "The clip", formula: "coded as it came, sound as it is" },
          { value: "lossless", title: "The clip, lossless", formula: "FFV1, .mkv" },
          { value: "overlay_mov", title: "The patch alone", formula: "ProRes 4444, .mov" },
          { value: "overlay_webm", title: "The patch alone", formula: "VP9, .webm" },
          { value: "mask", title: "Where it is", formula: "mask, .png" },
          { value: "plate", title: "The plate", formula: "16 bit .png, before its look" },
        ]}
        onChange={(value) => setFile(value as ClipFile)}
      />
      {busy ? (
        <Progress
          name={state.step?.name ?? "Waits for its turn"}
          share={state.step?.share ?? 0}
          left={state.step?.seconds_left}
          action={
            <button className="underline" onClick={() => void api.cancel(state.id).catch(tellError)}>
              Stop
            </button>
          }
        />
      ) : (
        <Button
          className="self-start"
          disabled={clip.covered <= 0 && file !== "plate"}
          onClick={() =>
            void api
              .exportClip(set.id, file)
              .then(({ id }) => setRun(id))
              .catch(tellError)
          }
        >
          {file === "plate" || file === "mask" ? "Write the picture" : "Write the clip"}
        </Button>
      )}
      {state?.state === "failed" && <p className="border-l-4 border-persimmon bg-leaf px-2 py-1">{state.message}</p>}
      {state?.state === "cancelled" && <p className="text-faint">Stopped; nothing was written.</p>}
      {state?.state === "done" && (
        <a
          className="flex items-center gap-2 border-l-4 border-verdigris bg-leaf px-2 py-1 font-semibold"
          href={`/api/runs/${state.id}/file`}
          download
          data-testid="clip-exported"
        >
          <Download size={16} /> {state.message}
        </a>
      )}
      <p className="leading-tight text-faint">
        Frames, times, colours and sound are those of the source; outside what is covered only the coding differs.
      </p>
    </div>
  );
}
