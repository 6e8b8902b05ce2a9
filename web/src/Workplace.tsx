// An open set: job sheet, picture, look-through.
import { useEffect } from "react";
import { thumbnail, type SetDetail } from "./api/client";
import { useSet } from "./api/useSet";
import { useClip } from "./clip/clip";
import { ClipView } from "./clip/ClipView";
import { begin, useTime } from "./clip/time";
import { TimeStrip } from "./clip/TimeStrip";
import { ContactSheet } from "./frames/ContactSheet";
import { useKeys } from "./keys/useKeys";
import { LookThrough } from "./lookthrough/LookThrough";
import { isLaid } from "./picture/names";
import { Picture } from "./picture/Picture";
import { frameView, isSame } from "./picture/views";
import { ViewStrip } from "./picture/ViewStrip";
import { JobSheet } from "./sheet/JobSheet";
import { fresh, useView } from "./state/store";
import { Button } from "./ui/controls";
import { go } from "./ui/path";

/** Milliseconds a frame stays while flicking through. */
const FLICK = 450;

export function Workplace({ id }: { id: number }) {
  const open = useSet(id);
  const { query, set } = open;
  const sheet = useView((s) => s.sheet);
  const clip = useClip(set);
  const shown = useView((s) => s.clip) && clip;
  useKeys(open, set);
  useFlicking(set);
  useEffect(() => {
    useView.getState().set(fresh);
    useTime.getState().set(begin);
  }, [id]);
  if (query.isError)
    return (
      <main className="flex h-full flex-col items-start gap-3 bg-sheet p-10">
        <p className="max-w-lg border-l-4 border-persimmon bg-leaf px-3 py-2">{query.error.message}</p>
        <Button onClick={() => go("/")}>All sets</Button>
      </main>
    );
  if (!set)
    return (
      <main className="flex h-full" aria-busy="true">
        <div className="w-[304px] bg-sheet p-3">
          <div className="skeleton mb-3 h-6" />
          <div className="skeleton h-40" />
        </div>
        <div className="grow bg-[#777]" />
      </main>
    );
  return (
    <main className="flex h-full overflow-hidden">
      <JobSheet open={open} set={set} />
      <div className="flex min-w-0 grow flex-col">
        <ViewStrip set={set} />
        <div className="relative min-h-0 grow">
          {shown ? (
            <ClipView open={open} set={set} clip={shown} />
          ) : sheet ? (
            <ContactSheet open={open} set={set} />
          ) : set.canvas ? (
            <Picture open={open} set={set} />
          ) : (
            <Waiting set={set} />
          )}
        </div>
        {shown ? <TimeStrip set={set} clip={shown} /> : !sheet && <LookThrough open={open} set={set} />}
      </div>
    </main>
  );
}

/** Shows one aligned frame after another. */
function useFlicking(set: SetDetail | undefined) {
  const flicking = useView((s) => s.flicking);
  useEffect(() => {
    if (!flicking || !set) return;
    const { hand } = useView.getState();
    // While a frame is laid by hand, it takes turns with the reference.
    const frames = set.frames.filter((f) =>
      hand === null ? f.used && isLaid(f) : f.id === hand || f.id === set.reference,
    );
    let k = frames.findIndex((f) => isSame(frameView(f.id), useView.getState().view));
    const next = () => {
      k = (k + 1) % frames.length;
      const shown = frames[k];
      if (shown) useView.getState().set({ view: frameView(shown.id) });
    };
    if (!frames.length) return;
    next();
    const timer = setInterval(next, FLICK);
    return () => clearInterval(timer);
  }, [flicking, set]);
}

/** Before there is a plate: the first frame that is readable, or what to do. */
function Waiting({ set }: { set: SetDetail }) {
  const ready = set.frames.filter((f) => f.state === "ready");
  const first = ready[0];
  const busy = set.run?.state === "running" || set.run?.state === "queued";
  return (
    <div className="surround-grey flex h-full flex-col items-center justify-center gap-3 p-6 text-white">
      {first && <img src={thumbnail(set, first.id, 1400)} alt="" className="min-h-0 shrink object-contain" />}
      <p className="shrink-0">
        {busy
          ? first
            ? `Frame 1 as shot, ${ready.length} of ${set.frames.length} read. The plate appears when all are aligned; All frames shows what is there.`
            : "Reading the first frame."
          : set.frames.length
            ? "No plate: see the job sheet."
            : "Add frames on the job sheet."}
      </p>
    </div>
  );
}
