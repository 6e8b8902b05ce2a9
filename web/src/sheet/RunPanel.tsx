// What is being done now, how far it is, and how to stop it; or why it could not be done.
import { api, type Run } from "../api/client";
import { Button, Progress } from "../ui/controls";
import { tellError } from "../ui/Notices";

export function RunPanel({ run, set, draft }: { run: Run | null | undefined; set: number; draft: boolean }) {
  const frame = "mx-3 mb-2 border-l-4 bg-leaf px-3 py-2 text-[14px]";
  const over = !run || run.kind === "export" || run.kind === "clipexport" || run.state === "done";
  // After a change of what takes part; it lies over the sheet's end, so that no list moves under the pointer.
  if (over)
    return draft ? (
      <div
        role="status"
        className={`${frame} absolute inset-x-0 bottom-0 z-10 mb-0! border-ink shadow-[0_-2px_6px_rgb(0_0_0/0.15)]`}
      >
        The frames are weighed anew; until then the median is shown.
      </div>
    ) : null;
  const begin = () => (run.kind === "clip" ? api.layClip(set) : api.prepare(set));
  const again = (
    <Button className="mt-1" onClick={() => void begin().catch(tellError)}>
      Go on
    </Button>
  );
  if (run.state === "failed")
    return (
      <div className={`${frame} border-persimmon`}>
        {run.message}
        <div>{again}</div>
      </div>
    );
  if (run.state === "cancelled")
    return (
      <div className={`${frame} border-persimmon`}>
        {run.kind === "clip" ? "Stopped; nothing of it is kept." : "Stopped. What was read is kept."}
        <div>{again}</div>
      </div>
    );
  const step = run.step?.name ?? "Waits for its turn";
  return (
    <div className={`${frame} border-ink`}>
      <Progress
        name={draft ? `${step === "Combining" ? "Weighing" : step} (median shown)` : step}
        share={run.step?.share ?? 0}
        left={run.step?.seconds_left}
        action={
          <button className="underline" onClick={() => void api.cancel(run.id).catch(tellError)}>
            Stop
          </button>
        }
      />
    </div>
  );
}
