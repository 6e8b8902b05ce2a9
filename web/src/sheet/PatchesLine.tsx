// Places that come from one frame or by another method: the list, and what can be changed of each.
import type { ReactNode } from "react";
import { useQuery } from "@tanstack/react-query";
import { api, patchPicture, type Patch, type Purpose, type Seam, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf, frameOf, sourceWords, type Source } from "../patches/patches";
import { meet } from "../patches/outlines";
import { usePatchInfo, useSeams } from "../patches/usePatchInfo";
import { frameNumber, isLaid } from "../picture/names";
import { camera } from "../picture/camera";
import { useView } from "../state/store";
import { plate } from "../picture/views";
import { Button, Slide } from "../ui/controls";
import { clock, methodTitles, plural } from "../ui/words";
import { MOVE, Moved, type Part } from "./PatchGeometry";
import type { Fact } from "./fact";

const borderActs: Record<string, string> = {
  seek: "let a border run where both sides agree",
  snap_to_edges: "let a border follow the picture",
  drawn: "a border as drawn",
};

export function patchesFact(set: SetDetail): Fact {
  const lifts = set.recipe.patches;
  const off = lifts.filter((l) => l.disabled).length;
  if (!lifts.length) return { text: "nothing taken by hand" };
  return { text: `${plural(lifts.length, "place")} taken by hand${off ? `, ${off} switched off` : ""}` };
}

export function PatchesLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { patch: index, set: put } = useView();
  const lifts = set.recipe.patches;
  const change = (k: number, part: Part, label: string) =>
    open.change(
      label,
      (now) => ({
        patches: now.patches.map((l, i) => (i === k ? { ...l, ...(typeof part === "function" ? part(l) : part) } : l)),
      }),
      { joins: label === MOVE },
    );
  const reorder = (from: number, to: number) => {
    const [moved, ...rest] = [lifts[from], ...lifts.filter((_, i) => i !== from)];
    void open.change(to < from ? "lay a place under another" : "lay a place over another", {
      patches: [...rest.slice(0, to), moved, ...rest.slice(to)],
    });
    put({ patch: to });
  };
  const canvas = set.canvas;
  const show = (k: number) => {
    const lift = lifts[k];
    put({ patch: index === k ? null : k, moving: false });
    if (!lift || !canvas || lift.on !== set.reference || index === k) return;
    const box = boxOf(lift.outline);
    put({ view: plate, sheet: false, flicking: false });
    camera.show({ ...box, x: box.x - canvas.x, y: box.y - canvas.y });
  };
  return (
    <div className="flex flex-col gap-2 text-[14px]">
      <p className="leading-tight text-faint">
        Click a place in the picture, or draw around it (Loop, under the picture), then press the crop of the frame to
        take it from. Under By method, a crop lays the loop by that method.
      </p>
      <div className="flex gap-2">
        <Button
          disabled={!canvas}
          title="An area that nothing taken by hand changes"
          onClick={() => put({ drawing: "keep", taking: null, view: plate, sheet: false, flicking: false })}
        >
          Keep an area
        </Button>
      </div>
      {set.recipe.protected.map((_, k) => (
        <div
          key={k}
          className="flex justify-between border-b border-rule/60 px-1"
          onPointerEnter={() => put({ keep: k })}
          onPointerLeave={() => put({ keep: null })}
        >
          <span>Kept area {k + 1}</span>
          <button
            className="underline"
            onClick={() => (
              open.change("let an area be changed again", {
                protected: set.recipe.protected.filter((_, i) => i !== k),
              }),
              put({ keep: null })
            )}
          >
            Let go
          </button>
        </div>
      ))}
      <ol>
        {lifts.map((lift, k) => {
          const frame = frameOf(lift.source);
          const time = set.frames.find((f) => f.id === frame)?.time;
          return (
            <li
              key={k}
              className="border-b border-rule/60"
              data-lift={k}
              data-off={lift.disabled}
              onPointerEnter={() => index == null && put({ patch: k })}
              onPointerLeave={() => index === k && !lifts[k] && put({ patch: null })}
            >
              <button
                className={`flex w-full items-center gap-2 px-1 py-0.5 text-left hover:bg-leaf ${index === k ? "bg-leaf font-semibold" : ""} ${lift.disabled ? "line-through" : ""}`}
                aria-expanded={index === k}
                onClick={() => show(k)}
              >
                <img
                  src={patchPicture(set.id, set.plate_key ?? "", k)}
                  alt=""
                  loading="lazy"
                  className="h-9 w-12 shrink-0 bg-rule object-cover"
                  onError={(e) => (e.currentTarget.style.visibility = "hidden")}
                />
                <span className="grow">
                  {k + 1}. {sourceWords(set, lift.source)}
                </span>
                <span className="num text-faint">{time ? clock(time) : ""}</span>
              </button>
              {index === k && (
                <Settings
                  set={set}
                  lift={lift}
                  index={k}
                  change={(part, label) => change(k, part, label)}
                  reorder={(to) => reorder(k, to)}
                  remove={() => (
                    open.change("give a place back", { patches: lifts.filter((_, i) => i !== k) }),
                    put({ patch: null })
                  )}
                />
              )}
            </li>
          );
        })}
      </ol>
      {lifts.some((l) => !l.disabled) && <Seams set={set} change={change} />}
    </div>
  );
}

const mends: Record<string, { words: string; label: string; part: (lift: Patch) => Partial<Patch> }> = {
  seek: {
    words: "Let its border run where both sides agree",
    label: borderActs.seek ?? "",
    part: () => ({ optimal_seam: true, snap_to_edges: false }),
  },
  tone: { words: "Match its tone", label: "match the tone of a lift", part: () => ({ tone: true }) },
  grain: { words: "Match its grain", label: "match the grain of a lift", part: () => ({ grain: true }) },
  fade: {
    words: "Let its border fade wider",
    label: "border of a lift",
    part: (lift) => ({ feather: Math.round(2 * Math.max(lift.feather, 6)) }),
  },
};

/** Places where lifts can be seen, judged by what the plate is for, each with what would mend it. */
function Seams({ set, change }: { set: SetDetail; change: (k: number, part: Part, label: string) => void }) {
  const { purpose, marked, set: put } = useView();
  const seams = useSeams(set, true);
  const lifts = set.recipe.patches;
  const go = (seam: Seam) => {
    put({ patch: seam.patch, moving: false, view: plate, sheet: false, flicking: false });
    const { x, y, width, height } = seam.place;
    if (set.canvas) camera.show({ x: x - set.canvas.x, y: y - set.canvas.y, width, height });
  };
  return (
    <section aria-label="Seams" className="flex flex-col gap-1 border-t border-rule pt-1.5">
      <div className="flex items-center justify-between gap-2">
        <label className="flex items-center gap-2">
          Seams that show
          <select
            className="border border-faint/60 bg-leaf px-1 py-0.5"
            value={purpose}
            onChange={(e) => put({ purpose: e.target.value as Purpose })}
          >
            <option value="web">on the web</option>
            <option value="screen">on a screen</option>
            <option value="print">in print</option>
          </select>
        </label>
        <button
          className="px-1.5 aria-pressed:bg-ink aria-pressed:text-leaf"
          aria-pressed={marked}
          onClick={() => put({ marked: !marked })}
        >
          Mark
        </button>
      </div>
      {!seams ? (
        <p className="text-faint">Looking along the borders</p>
      ) : (
        !seams.length && (
          <p className="text-faint" data-testid="no-seams">
            None: nothing that was taken can be told from what is around.
          </p>
        )
      )}
      <ol>
        {seams?.map((seam, k) => {
          const lift = lifts[seam.patch];
          const mend = mends[seam.mend];
          // What is so already cannot mend it.
          const helps =
            lift &&
            mend &&
            Object.entries(mend.part(lift)).some(([name, value]) => lift[name as keyof Patch] !== value);
          return (
            <li key={k} data-seam={seam.mend} className="border-b border-rule/60 py-0.5 leading-tight">
              <button className="text-left hover:bg-leaf" onClick={() => go(seam)}>
                Place {seam.patch + 1}: {seam.words}
              </button>
              {helps && (
                <button className="ml-1 underline" onClick={() => change(seam.patch, mend.part(lift), mend.label)}>
                  {mend.words}
                </button>
              )}
            </li>
          );
        })}
      </ol>
    </section>
  );
}

/** From which strength on the highlights are back. */
function Glare({ set, index }: { set: SetDetail; index: number }) {
  const found = useQuery({
    queryKey: ["glare", set.id, set.plate_key, index],
    queryFn: () => api.glare(set.id, index),
    placeholderData: (before) => before,
  }).data;
  if (!found) return null;
  return (
    <p className="leading-tight text-faint">
      {found.returns == null
        ? "No highlight stands over the plate here. Where the plate has it too, lay the loop by No glare first."
        : `Half of the glare is back below ${Math.round(100 * found.returns)} %.`}
    </p>
  );
}

function Settings({
  set,
  lift,
  index,
  change,
  remove,
  reorder,
}: {
  set: SetDetail;
  lift: Patch;
  index: number;
  change: (part: Part, label: string) => void;
  remove: () => void;
  reorder: (to: number) => void;
}) {
  const calm = "highlight_suppressed" in lift.source;
  const over = set.recipe.patches.flatMap((l, k) =>
    k !== index && !l.disabled && !lift.disabled && l.on === lift.on && meet(l.outline, lift.outline) ? [k] : [],
  );
  const swap = () => reorder(index > Math.min(...over) ? Math.min(...over) : Math.max(...over));
  const select = "border border-faint/60 bg-leaf px-1 py-0.5";
  const encode = (s: Source) => ("method" in s ? `method ${s.method}` : `frame ${frameOf(s)}`);
  const decode = (value: string): Source => {
    const [kind, what] = value.split(" ");
    if (kind === "method") return { method: what ?? "mean" };
    return calm ? { highlight_suppressed: Number(what) } : { frame: Number(what) };
  };
  return (
    <div className="flex flex-col gap-1.5 px-1 py-2">
      <label className="flex items-center justify-between gap-2">
        Comes from
        <select
          className={select}
          value={encode(lift.source)}
          onChange={(e) => change({ source: decode(e.target.value) }, "take a place from elsewhere")}
        >
          {set.frames
            .filter((f) => f.used && isLaid(f))
            .map((f) => (
              <option key={f.id} value={`frame ${f.id}`}>
                Frame {frameNumber(set, f.id)}
              </option>
            ))}
          {Object.entries(methodTitles).map(([value, title]) => (
            <option key={value} value={`method ${value}`}>
              {title}
            </option>
          ))}
        </select>
      </label>
      {frameOf(lift.source) != null && (
        <Tick
          checked={calm}
          change={(on) => {
            const frame = frameOf(lift.source) ?? 0;
            change(
              { source: on ? { highlight_suppressed: frame } : { frame } },
              on ? "take highlights off a place" : "a place with its highlights",
            );
          }}
        >
          Without its highlights
        </Tick>
      )}
      {calm && <Glare set={set} index={index} />}
      <Slide
        name={calm ? "Highlights taken off" : "Strength"}
        unit="%"
        value={Math.round(100 * lift.strength)}
        most={100}
        change={(v) => change({ strength: v / 100 }, "strength of a lift")}
      />
      <label className="flex items-center justify-between gap-2">
        Border
        <select
          className={select}
          value={lift.optimal_seam ? "seek" : lift.snap_to_edges ? "follow" : "drawn"}
          onChange={(e) =>
            change(
              { optimal_seam: e.target.value === "seek", snap_to_edges: e.target.value === "follow" },
              borderActs[e.target.value] ?? "",
            )
          }
        >
          <option value="seek">where both sides agree</option>
          <option value="follow">along edges, such as a skyline</option>
          <option value="drawn">as drawn</option>
        </select>
      </label>
      <Slide
        name="Border fades over"
        unit="px"
        none={lift.optimal_seam ? "as the content asks" : undefined}
        value={Math.round(lift.feather)}
        most={Math.max(40, Math.round((set.canvas?.width ?? 0) / 20))}
        change={(v) => change({ feather: v }, "border of a lift")}
      />
      {"frame" in lift.source && (
        <Tick
          checked={lift.tone}
          change={(tone) => change({ tone }, tone ? "match the tone of a lift" : "a lift in its own tone")}
        >
          Tone matched along the border
        </Tick>
      )}
      {"frame" in lift.source && !lift.transform && (
        <Tick
          title="Where other frames show the same as this one, all of them are averaged"
          checked={lift.grain}
          change={(grain) => change({ grain }, grain ? "match the grain of a lift" : "a lift with its own grain")}
        >
          Grain as around it
        </Tick>
      )}
      <Told set={set} lift={lift} change={change} />
      {over.length > 0 && (
        <p className="leading-tight" data-testid="overlaps">
          It meets {over.map((k) => `place ${k + 1}`).join(", ")}; where they overlap the later one shows.{" "}
          <button className="underline" onClick={swap}>
            {index > Math.min(...over) ? "Lay it under" : "Lay it over"}
          </button>
        </p>
      )}
      {(lift.exclusions ?? []).length > 0 && (
        <p className="leading-tight">
          {plural((lift.exclusions ?? []).length, "part")} given back.{" "}
          <button className="underline" onClick={() => change({ exclusions: [] }, "take parts again")}>
            Take all of it again
          </button>
        </p>
      )}
      {frameOf(lift.source) != null && <Moved set={set} lift={lift} change={change} />}
      <div className="flex gap-2">
        <Button
          onClick={() => change({ disabled: !lift.disabled }, lift.disabled ? "switch a lift on" : "switch a lift off")}
        >
          {lift.disabled ? "Switch on" : "Switch off"}
        </Button>
        <Button onClick={remove}>Give all of it back</Button>
      </div>
    </div>
  );
}

/** What the lift does, and what would help. */
function Told({ set, lift, change }: { set: SetDetail; lift: Patch; change: (part: Part, label: string) => void }) {
  const told = usePatchInfo(set, lift);
  if (!told || !lift.optimal_seam) return null;
  return (
    <div data-testid="lift-told">
      <p className={`leading-tight ${told.warns ? "text-persimmon" : "text-faint"}`}>{told.words}</p>
      {(lift.exclude_introduced || (told.brings.length > 0 && told.takes > 0)) && (
        <button
          className="underline"
          onClick={() =>
            change(
              { exclude_introduced: !lift.exclude_introduced },
              lift.exclude_introduced ? "bring along what a frame shows" : "leave out what a frame brings along",
            )
          }
        >
          {lift.exclude_introduced ? "Bring it along again" : "Leave that out"}
        </button>
      )}
    </div>
  );
}

/** A box to tick, with what it says. */
function Tick(props: { checked: boolean; title?: string; change: (on: boolean) => void; children: ReactNode }) {
  return (
    <label className="flex items-center gap-2" title={props.title}>
      <input
        type="checkbox"
        className="accent-ink"
        checked={props.checked}
        onChange={(e) => props.change(e.target.checked)}
      />
      {props.children}
    </label>
  );
}
