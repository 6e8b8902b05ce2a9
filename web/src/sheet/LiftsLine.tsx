// Places that come from one frame or by another method: the list, and what can be changed of each.
import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { api, type Lift, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { boxOf, frameOf, sourceWords, type Source } from "../lifts/lifts";
import { frameNumber, isLaid } from "../picture/names";
import { camera, useView } from "../picture/view";
import { Button } from "../ui/controls";
import { clock, methodTitles, plural } from "../ui/words";
import type { Fact } from "./JobSheet";

export function liftsFact(set: SetDetail): Fact {
  const lifts = set.recipe.lifts ?? [];
  const off = lifts.filter((l) => l.off).length;
  if (!lifts.length) return { text: "nothing taken by hand" };
  return { text: `${plural(lifts.length, "place")} taken by hand${off ? `, ${off} switched off` : ""}` };
}

export function LiftsLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { lift: index, set: put } = useView();
  const lifts = set.recipe.lifts ?? [];
  const change = (k: number, part: Partial<Lift>, label: string) => open.change(label, { lifts: lifts.map((l, i) => (i === k ? { ...l, ...part } : l)) });
  const canvas = set.canvas;
  const show = (k: number) => {
    const lift = lifts[k];
    put({ lift: index === k ? null : k });
    if (!lift || !canvas || lift.on !== set.reference || index === k) return;
    const box = boxOf(lift.outline);
    put({ view: "plate", sheet: false, flicking: false });
    camera.show({ ...box, x: box.x - canvas.x, y: box.y - canvas.y });
  };
  return (
    <div className="flex flex-col gap-2 text-[14px]">
      <p className="leading-tight text-faint">Click a place in the picture, or draw a loop around it, then press the crop of the frame to take it from. Under By method, a crop lays the loop by that method.</p>
      <Button className="self-start" disabled={!canvas} onClick={() => put({ drawing: "loop", view: "plate", sheet: false, flicking: false })}>
        Draw a loop
      </Button>
      <ol>
        {lifts.map((lift, k) => {
          const frame = frameOf(lift.source);
          const time = set.frames.find((f) => f.index === frame)?.time;
          return (
            <li key={k} className="border-b border-rule/60" data-lift={k} data-off={lift.off} onPointerEnter={() => index == null && put({ lift: k })} onPointerLeave={() => index === k && !lifts[k] && put({ lift: null })}>
              <button className={`flex w-full justify-between px-1 text-left hover:bg-leaf ${index === k ? "bg-leaf font-semibold" : ""} ${lift.off ? "line-through" : ""}`} aria-expanded={index === k} onClick={() => show(k)}>
                <span>
                  {k + 1}. {sourceWords(set, lift.source)}
                </span>
                <span className="num text-faint">{time ? clock(time) : ""}</span>
              </button>
              {index === k && <Settings set={set} lift={lift} index={k} change={(part, label) => change(k, part, label)} remove={() => (open.change("give a place back", { lifts: lifts.filter((_, i) => i !== k) }), put({ lift: null }))} />}
            </li>
          );
        })}
      </ol>
    </div>
  );
}

/** From which strength on the highlights are back. */
function Glare({ set, index }: { set: SetDetail; index: number }) {
  const found = useQuery({ queryKey: ["glare", set.id, set.plate_key, index], queryFn: () => api.glare(set.id, index), placeholderData: (before) => before }).data;
  if (!found) return null;
  return <p className="leading-tight text-faint">{found.returns == null ? "No highlight lies in this area." : `Half of the glare is back below ${Math.round(100 * found.returns)} %.`}</p>;
}

function Settings({ set, lift, index, change, remove }: { set: SetDetail; lift: Lift; index: number; change: (part: Partial<Lift>, label: string) => void; remove: () => void }) {
  const calm = "calm" in lift.source;
  const select = "border border-faint/60 bg-leaf px-1 py-0.5";
  const encode = (s: Source) => ("method" in s ? `method ${s.method}` : `frame ${frameOf(s)}`);
  const decode = (value: string): Source => {
    const [kind, what] = value.split(" ");
    if (kind === "method") return { method: what ?? "mean" };
    return calm ? { calm: Number(what) } : { frame: Number(what) };
  };
  return (
    <div className="flex flex-col gap-1.5 px-1 py-2">
      <label className="flex items-center justify-between gap-2">
        Comes from
        <select className={select} value={encode(lift.source)} onChange={(e) => change({ source: decode(e.target.value) }, "take a place from elsewhere")}>
          {set.frames
            .filter((f) => f.used && isLaid(f))
            .map((f) => (
              <option key={f.id} value={`frame ${f.index}`}>
                Frame {frameNumber(set, f.index)}
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
        <label className="flex items-center gap-2">
          <input type="checkbox" className="accent-ink" checked={calm} onChange={(e) => change({ source: e.target.checked ? { calm: frameOf(lift.source) ?? 0 } : { frame: frameOf(lift.source) ?? 0 } }, e.target.checked ? "take highlights off a place" : "a place with its highlights")} />
          Without its highlights
        </label>
      )}
      {calm && <Glare set={set} index={index} />}
      <Slide name={calm ? "Highlights taken off" : "Strength"} unit="%" value={Math.round(100 * lift.strength)} most={100} change={(v) => change({ strength: v / 100 }, "strength of a lift")} />
      <Slide name="Border fades over" unit="px" value={Math.round(lift.soft)} most={Math.max(40, Math.round((set.canvas?.width ?? 0) / 20))} change={(v) => change({ soft: v }, "border of a lift")} />
      <label className="flex items-center gap-2">
        <input type="checkbox" className="accent-ink" checked={lift.follow} onChange={(e) => change({ follow: e.target.checked }, e.target.checked ? "let a border follow the picture" : "a border as drawn")} />
        Border follows edges such as a skyline
      </label>
      <div className="flex gap-2">
        <Button onClick={() => change({ off: !lift.off }, lift.off ? "switch a lift on" : "switch a lift off")}>{lift.off ? "Switch on" : "Switch off"}</Button>
        <Button onClick={remove}>Give back</Button>
      </div>
    </div>
  );
}

/** A slider that tells its value while it moves and changes the plate when it is let go. */
function Slide({ name, unit, value, most, change }: { name: string; unit: string; value: number; most: number; change: (value: number) => void }) {
  const [moving, setMoving] = useState<number | null>(null);
  const done = () => {
    if (moving != null && moving !== value) change(moving);
    setMoving(null);
  };
  return (
    <label className="grid grid-cols-[1fr_auto] gap-x-2">
      {name}
      <span className="num">
        {moving ?? value} {unit}
      </span>
      <input className="col-span-2 accent-ink" type="range" min={0} max={most} value={moving ?? value} aria-label={name} onChange={(e) => setMoving(Number(e.target.value))} onPointerUp={done} onKeyUp={done} onBlur={done} />
    </label>
  );
}
