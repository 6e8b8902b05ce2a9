// Which frames take part: the list by clock time, set aside and brought back with one click.
import { useRef, useState } from "react";
import { api, thumbnail, upload, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { asideLabel, setAside } from "../frames/aside";
import { runs, sharedFindings } from "../frames/findings";
import { isLaid } from "../picture/names";
import { useView } from "../state/store";
import { frameView } from "../picture/views";
import { Button, Progress } from "../ui/controls";
import { FolderDialog } from "../ui/FolderDialog";
import { tell, tellError } from "../ui/Notices";
import { clock, exposure, plural } from "../ui/words";
import { Development } from "./Development";
import type { Fact } from "./fact";

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
  const lost = set.frames.filter((f) => f.missing).length;
  if (lost) words.push(`${plural(lost, "original")} missing`);
  if (set.moments && set.moments < set.frames.filter((f) => f.used).length) words.push(plural(set.moments, "moment"));
  if (set.frames.filter((f) => f.used).length === 1 && !reading) words.push("the plate is that frame");
  return { text: words.join(", "), open: failed + look + lost > 0 };
}

export function FramesLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { sheet, set: put } = useView();
  const files = useRef<HTMLInputElement>(null);
  const [sending, setSending] = useState<number | null>(null);
  const add = (list: File[]) => {
    if (!list.length) return;
    setSending(0);
    upload(set.id, list, setSending)
      .catch(tellError)
      .finally(() => setSending(null));
  };
  const shared = sharedFindings(set.frames);
  const common = new Set(shared.map((one) => one.text));
  return (
    <>
      {set.note && <p className="mb-2 text-[13px] leading-tight text-faint">{set.note}.</p>}
      <Missing set={set} />
      <Changed set={set} />
      <Button className="mb-2" aria-pressed={sheet} onClick={() => put({ sheet: !sheet })}>
        {sheet ? "Back to the picture" : "Lay out all frames"}
      </Button>
      {shared.map(({ text, frames, matters }) => (
        <p
          key={text}
          className={`mb-1 text-[13px] leading-tight ${matters ? "text-persimmon" : "text-faint"}`}
          data-testid="shared-finding"
        >
          {matters ? "▸ " : ""}
          {frames.length === set.frames.length ? "All frames" : `Frames ${runs(frames)}`}: {text}
        </p>
      ))}
      <ul className="flex flex-col">
        {set.frames.map((f, n) => (
          <li key={f.id} className="flex items-start gap-2 border-b border-rule/60 py-1" data-testid={`frame-${n + 1}`}>
            <button
              className="shrink-0 disabled:cursor-default"
              aria-label={`Show frame ${n + 1}`}
              disabled={f.state !== "ready"}
              onClick={() =>
                put(isLaid(f) ? { view: frameView(f.id), flicking: false, sheet: false } : { sheet: true, large: f.id })
              }
            >
              {f.state === "ready" ? (
                <img
                  src={thumbnail(set, f.id, 120)}
                  alt=""
                  className={`h-9 w-[54px] object-cover ${f.used ? "" : "opacity-40"}`}
                />
              ) : (
                <div className={`h-9 w-[54px] ${f.state === "failed" ? "bg-rule" : "skeleton"}`} />
              )}
            </button>
            <div className="min-w-0 grow text-[14px] leading-tight" title={f.name}>
              <div className="num">
                {n + 1}{" "}
                <span className="text-faint">
                  {f.state === "reading" ? "being read" : f.state === "failed" ? "unreadable" : clock(f.time)}
                </span>
              </div>
              <div className="truncate text-[13px] text-faint tabular-nums">{exposure(f)}</div>
              {f.findings
                .filter((one) => !common.has(one.text))
                .map((one) => (
                  <div key={one.text} className={`text-[13px] ${one.matters ? "text-persimmon" : "text-faint"}`}>
                    {one.matters ? "▸ " : ""}
                    {one.text}
                  </div>
                ))}
              {f.reason && (
                <div className="text-[13px] text-persimmon">
                  {f.state === "failed" ? f.reason : `Frame ${n + 1} set aside: ${f.reason}`}
                </div>
              )}
            </div>
            {f.joined && !f.reason && (
              <button
                className="shrink-0 text-[13px] underline"
                onClick={() => open.change(asideLabel(n + 1, f.set_aside), setAside(set.recipe, [f.id], !f.set_aside))}
              >
                {f.set_aside ? "bring back" : "set aside"}
              </button>
            )}
            {f.state === "failed" && (
              <div className="flex shrink-0 flex-col items-end text-[13px]">
                <button className="underline" onClick={() => void api.dismiss(set.id, f.id).catch(tellError)}>
                  take off
                </button>
                <button className="underline" onClick={() => void api.readAgain(set.id, f.id).catch(tellError)}>
                  read again
                </button>
              </div>
            )}
          </li>
        ))}
      </ul>
      <input
        ref={files}
        type="file"
        multiple
        hidden
        data-testid="more-files"
        onChange={(e) => add([...(e.target.files ?? [])])}
      />
      {sending === null ? (
        <Button className="mt-2" onClick={() => files.current?.click()}>
          Add frames
        </Button>
      ) : (
        <div className="mt-2">
          <Progress name="Copying frames" share={sending} />
        </div>
      )}
      {set.frames.length > 0 && <Development open={open} set={set} />}
    </>
  );
}

/** Originals that are other files now, and taking those. */
function Changed({ set }: { set: SetDetail }) {
  const other = set.frames.filter((f) => f.changed);
  if (!other.length) return null;
  const take = () =>
    other
      .reduce((before, f) => before.then(() => api.renew(set.id, f.id)), Promise.resolve())
      .then(() => tell(`${plural(other.length, "frame")} taken anew.`))
      .catch(tellError);
  return (
    <div className="mb-2 border-l-4 border-persimmon bg-leaf px-2 py-1.5 text-[14px]" data-testid="changed">
      {other.length === 1 ? "Another file is" : `${other.length} other files are`} now where{" "}
      {other.length === 1 ? "an original was" : "originals were"}: {other[0]?.source ?? other[0]?.name}
      {other.length > 1 && " and others"}. The plate still shows what came in.
      <div>
        <Button className="mt-1" onClick={() => void take()}>
          Take {other.length === 1 ? "it as a new frame" : "them as new frames"}
        </Button>
      </div>
    </div>
  );
}

/** Originals that are not where they were, and finding them. */
function Missing({ set }: { set: SetDetail }) {
  const [browsing, setBrowsing] = useState(false);
  const lost = set.frames.filter((f) => f.missing);
  if (!lost.length) return null;
  const find = (path: string) =>
    api
      .relink(set.id, path)
      .then(({ found, missing }) => {
        setBrowsing(false);
        if (found) tell(`${plural(found, "original")} found again${missing ? `, ${missing} still missing` : ""}.`);
        else tell("None of them is in that folder or below it. Choose another one.", { failed: true });
      })
      .catch(tellError);
  return (
    <div className="mb-2 border-l-4 border-persimmon bg-leaf px-2 py-1.5 text-[14px]" data-testid="missing">
      {plural(lost.length, "original is", "originals are")} not where {lost.length === 1 ? "it was" : "they were"}:{" "}
      {lost[0]?.source ?? lost[0]?.name}
      {lost.length > 1 && " and others"}. What was read is kept; to read it again, they are needed.
      <div>
        <Button className="mt-1" onClick={() => setBrowsing(true)}>
          Find them
        </Button>
      </div>
      <FolderDialog
        open={browsing}
        close={() => setBrowsing(false)}
        title="Where are the originals now?"
        act={(path) => (
          <Button strong onClick={() => void find(path)}>
            Look in here and below
          </Button>
        )}
      />
    </div>
  );
}
