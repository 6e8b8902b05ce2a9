// Which frames take part: the list by clock time, set aside and brought back with one click.
import { useRef, useState } from "react";
import { api, thumbnail, upload, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { useView } from "../picture/view";
import { Button, Progress } from "../ui/controls";
import { tellError } from "../ui/Notices";
import { clock, exposure, plural } from "../ui/words";
import type { Fact } from "./JobSheet";

export function framesFact(set: SetDetail): Fact {
  const failed = set.frames.filter((f) => f.state === "failed").length;
  const reading = set.frames.filter((f) => f.state === "reading").length;
  const aside = set.frames.filter((f) => f.state === "ready" && !f.used).length;
  if (!set.frames.length) return { text: "no frames yet", open: true };
  const words = [plural(set.frames.length, "frame")];
  if (reading) words.push(`${reading} being read`);
  if (aside) words.push(`${aside} set aside`);
  if (failed) words.push(`${failed} unreadable`);
  const look = set.frames.filter((f) => f.used && f.findings.some((one) => one.matters)).length;
  if (look) words.push(`${look} to look at`);
  if (set.frames.filter((f) => f.used).length === 1 && !reading) words.push("the plate is that frame");
  return { text: words.join(", "), open: failed + look > 0 };
}

export const asideLabel = (number: number, aside: boolean) => (aside ? `bring frame ${number} back` : `set frame ${number} aside`);

export function FramesLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const put = useView((s) => s.set);
  const files = useRef<HTMLInputElement>(null);
  const [sending, setSending] = useState<number | null>(null);
  const add = (list: File[]) => {
    if (!list.length) return;
    setSending(0);
    upload(set.id, list, setSending)
      .catch(tellError)
      .finally(() => setSending(null));
  };
  return (
    <>
      <ul className="flex flex-col">
        {set.frames.map((f, n) => (
          <li key={f.id} className="flex items-start gap-2 border-b border-rule/60 py-1" data-testid={`frame-${n + 1}`}>
            <button
              className="shrink-0 disabled:cursor-default"
              aria-label={`Show frame ${n + 1}`}
              disabled={f.residual_px == null}
              onClick={() => put({ view: `frame-${f.index}`, flicking: false })}
            >
              {f.state === "ready" ? (
                <img src={thumbnail(set.id, f.id, 120)} alt="" className={`h-9 w-[54px] object-cover ${f.used ? "" : "opacity-40"}`} />
              ) : (
                <div className={`h-9 w-[54px] ${f.state === "failed" ? "bg-rule" : "skeleton"}`} />
              )}
            </button>
            <div className="min-w-0 grow text-[14px] leading-tight" title={f.name}>
              <div className="num">
                {n + 1} <span className="text-faint">{f.state === "reading" ? "being read" : f.state === "failed" ? "unreadable" : clock(f.time)}</span>
              </div>
              <div className="truncate text-[13px] text-faint tabular-nums">{exposure(f)}</div>
              {f.findings.map((one) => (
                <div key={one.text} className={`text-[13px] ${one.matters ? "text-persimmon" : "text-faint"}`}>
                  {one.matters ? "▸ " : ""}
                  {one.text}
                </div>
              ))}
              {f.reason && <div className="text-[13px] text-persimmon">{f.state === "failed" ? f.reason : `Frame ${n + 1} set aside: ${f.reason}`}</div>}
            </div>
            {f.index != null && !f.reason && (
              <button
                className="shrink-0 text-[13px] underline"
                onClick={() => open.change(asideLabel(n + 1, f.set_aside), { used: set.recipe.used.map((u, i) => (i === f.index ? f.set_aside : u)) })}
              >
                {f.set_aside ? "bring back" : "set aside"}
              </button>
            )}
            {f.state === "failed" && (
              <button className="shrink-0 text-[13px] underline" onClick={() => void api.dismiss(set.id, f.id).catch(tellError)}>
                take off
              </button>
            )}
          </li>
        ))}
      </ul>
      <input ref={files} type="file" multiple hidden accept="image/*,.tif,.tiff" data-testid="more-files" onChange={(e) => add([...(e.target.files ?? [])])} />
      {sending === null ? (
        <Button className="mt-2" onClick={() => files.current?.click()}>
          Add frames
        </Button>
      ) : (
        <div className="mt-2">
          <Progress name="Copying frames" share={sending} />
        </div>
      )}
    </>
  );
}
