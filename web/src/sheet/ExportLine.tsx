// Writing the plate to a file: format, size, quality.
import { useQuery } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { useState } from "react";
import { api, inventedMask, type ExportRequest, type SetDetail } from "../api/client";
import { Button, Choices, Progress } from "../ui/controls";
import { tellError } from "../ui/Notices";
import { madeUp } from "../ui/words";
import type { Fact } from "./fact";

export function exportFact(set: SetDetail): Fact {
  return { text: set.canvas ? `${set.canvas.width} × ${set.canvas.height} px` : "no plate yet" };
}

const half = (v: number, level: number) => Math.max(1, Math.ceil(v / 2 ** level));

export function ExportLine({ set }: { set: SetDetail }) {
  const [request, setRequest] = useState<ExportRequest>({ format: "tiff", level: 0, quality: 92 });
  const [run, setRun] = useState<number | null>(null);
  const state = useQuery({ queryKey: ["run", run], queryFn: () => api.run(run ?? 0), enabled: run !== null }).data;
  const canvas = set.canvas;
  if (!canvas) return <p className="text-[14px] text-faint">There is nothing to write until the frames are aligned.</p>;
  const busy = state && (state.state === "running" || state.state === "queued");
  const sizes = ["Full size", "Half", "A quarter"].map((title, level) => ({
    value: String(level),
    title,
    formula: `${half(canvas.width, level)} × ${half(canvas.height, level)} px`,
  }));
  const begin = () =>
    api
      .export(set.id, request)
      .then(({ id }) => setRun(id))
      .catch(tellError);
  return (
    <div className="flex flex-col gap-3 text-[15px]">
      <Choices
        label="Format"
        value={request.format}
        choices={[
          { value: "tiff", title: "TIFF", formula: "16 bit, to work on" },
          { value: "exr", title: "EXR", formula: "floats, light beyond white kept" },
          { value: "png", title: "PNG", formula: "8 bit, lossless" },
          { value: "jpeg", title: "JPEG", formula: "8 bit, small" },
        ]}
        onChange={(format) => setRequest({ ...request, format: format as ExportRequest["format"] })}
      />
      {request.format === "jpeg" && (
        <label className="flex items-center gap-2 text-[14px]">
          Quality
          <input
            type="range"
            min={40}
            max={100}
            value={request.quality}
            className="grow accent-ink"
            onChange={(e) => setRequest({ ...request, quality: Number(e.target.value) })}
          />
          <span className="num w-8 text-right">{request.quality}</span>
        </label>
      )}
      {request.format !== "exr" && (
        <Choices
          label="Size"
          value={String(request.level)}
          choices={sizes}
          onChange={(level) => setRequest({ ...request, level: Number(level) })}
        />
      )}
      <p className="text-[13px] leading-tight text-faint">
        The reference frame&apos;s camera data and an sRGB profile go with the file.
      </p>
      {set.invented != null && set.invented > 0 && (
        <p className="text-[14px] leading-tight" data-testid="made-up">
          {madeUp(set.invented)} of the plate is made up: no frame shows it.{" "}
          <a
            className="underline"
            href={inventedMask(set.id, set.plate_key ?? "")}
            download={`${set.name} made up.png`}
          >
            Where, as a mask
          </a>
        </p>
      )}
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
        <Button strong className="self-start" onClick={() => void begin()}>
          Write the file
        </Button>
      )}
      {state?.state === "failed" && <p className="border-l-4 border-persimmon bg-leaf px-2 py-1">{state.message}</p>}
      {state?.state === "cancelled" && <p className="text-faint">Stopped; nothing was written.</p>}
      {state?.state === "done" && (
        <a
          className="flex items-center gap-2 border-l-4 border-verdigris bg-leaf px-2 py-1 font-semibold"
          href={`/api/runs/${state.id}/file`}
          download
          data-testid="exported"
        >
          <Download size={16} /> {state.message}
        </a>
      )}
    </div>
  );
}
