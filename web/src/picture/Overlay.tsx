// Drawn over the picture in its own pixels: where frames end, what a fit rests on, areas that guide the alignment.
import { useQuery } from "@tanstack/react-query";
import { api, evidence, type Point, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { useDoubts } from "../doubts/doubts";
import { Drawing } from "../drawing/Drawing";
import { usePatchInfo, useSeams } from "../patches/usePatchInfo";
import { useView } from "../state/store";
import { CopyBrush } from "../touches/CopyBrush";
import { PlaneLines } from "../touches/PlaneLines";
import { Touches } from "../touches/Outlines";
import { Outline, path, type Bounds, type PlaceAt } from "./outline";
import { frameOfView } from "./views";

interface Props {
  open: OpenSet;
  set: SetDetail;
  bounds: Bounds;
  placeAt: PlaceAt;
}

export function Overlay({ open, set, bounds, placeAt }: Props) {
  const { reach, rests, drawing, view, loop, evidence: hatched } = useView();
  const frame = frameOfView(view) ?? set.reference;
  const box = `${bounds.x} ${bounds.y} ${bounds.width} ${bounds.height}`;
  const size = bounds.width / 900;
  return (
    <>
      <svg
        viewBox={box}
        preserveAspectRatio="none"
        className="pointer-events-none absolute inset-0 h-full w-full"
        aria-hidden
      >
        {reach && <Reach set={set} size={size} />}
        {rests && frame != null && <Rests set={set} frame={frame} size={size} />}
        {hatched && <Hatched set={set} size={size} />}
        <Areas set={set} size={size} />
        <Keeps set={set} size={size} />
        <Lifts set={set} size={size} />
        <Seams set={set} size={size} />
        <Touches open={open} set={set} size={size} placeAt={placeAt} />
        {loop && <Outline d={path(loop.map((p) => [p.x, p.y]))} size={size} stroke="var(--color-persimmon)" dashed />}
        <OpenDoubt set={set} size={size} />
      </svg>
      {drawing === "stroke" ? (
        <CopyBrush open={open} set={set} bounds={bounds} size={size} placeAt={placeAt} />
      ) : drawing === "plane" ? (
        <PlaneLines open={open} set={set} box={box} size={size} placeAt={placeAt} />
      ) : (
        drawing && <Drawing key={drawing} open={open} set={set} box={box} size={size} placeAt={placeAt} />
      )}
    </>
  );
}

/** The doubt that is open, framed a little way off so that it stays to be seen. */
function OpenDoubt({ set, size }: { set: SetDetail; size: number }) {
  const { doubt: index } = useView();
  const doubt = useDoubts(set)?.[index ?? -1];
  if (!doubt) return null;
  const gap = 6 * size;
  const { x, y, width, height } = doubt.place;
  return (
    <rect
      data-testid="doubt-frame"
      x={x - gap}
      y={y - gap}
      width={width + 2 * gap}
      height={height + 2 * gap}
      fill="none"
      stroke={doubt.settled ? "var(--color-verdigris)" : "var(--color-persimmon)"}
      strokeDasharray={doubt.settled ? undefined : `${6 * size} ${4 * size}`}
      strokeWidth={2 * size}
    />
  );
}

/** Each frame hatches what it does not reach: the denser the hatching, the fewer frames there. */
function Reach({ set, size }: { set: SetDetail; size: number }) {
  const canvas = set.canvas;
  if (!canvas) return null;
  const used = set.frames.filter((f) => f.used && f.outline.length);
  const whole = `M-0.5 -0.5h${canvas.width}v${canvas.height}h${-canvas.width}Z`;
  const common = set.common;
  return (
    <g data-testid="reach">
      {used.map((f, k) => {
        const turn = 20 + ((k * 137) % 140);
        return (
          <g key={f.id}>
            <pattern
              id={`hatch-${f.id}`}
              patternUnits="userSpaceOnUse"
              width={9 * size}
              height={9 * size}
              patternTransform={`rotate(${turn})`}
            >
              <line x1={0} x2={0} y1={0} y2={9 * size} stroke="#262522" strokeWidth={1.6 * size} strokeOpacity={0.7} />
            </pattern>
            <path d={whole + path(f.outline)} fillRule="evenodd" fill={`url(#hatch-${f.id})`} />
            <path d={path(f.outline)} fill="none" stroke="#262522" strokeWidth={0.8 * size} />
          </g>
        );
      })}
      {common && (
        <rect
          x={common.x - canvas.x}
          y={common.y - canvas.y}
          width={common.width}
          height={common.height}
          fill="none"
          stroke="var(--color-verdigris)"
          strokeWidth={2.5 * size}
        />
      )}
    </g>
  );
}

/** Strokes, one over another, that are seen on any picture. */
const OUTLINED = [
  ["white", 2.6],
  ["var(--color-verdigris)", 1.4],
] as const;

/** Closed squares lead, broken crosses were found again but moved otherwise; a ring where most is left. */
function Rests({ set, frame, size }: { set: SetDetail; frame: number; size: number }) {
  const fit = useQuery({ queryKey: ["fit", set.id, frame, set.frame_key], queryFn: () => api.fit(set.id, frame) }).data;
  if (!fit) return null;
  const r = 4 * size;
  return (
    <g data-testid="rests">
      {OUTLINED.map(([stroke, width]) =>
        fit.points.map((p, k) => (
          <rect
            key={`${stroke} ${k}`}
            x={(p[0] ?? 0) - r}
            y={(p[1] ?? 0) - r}
            width={2 * r}
            height={2 * r}
            fill="none"
            stroke={stroke}
            strokeWidth={width * size}
          />
        )),
      )}
      {fit.refused.map((p, k) => (
        <path
          key={k}
          d={`M${(p[0] ?? 0) - r} ${(p[1] ?? 0) - r}l${2 * r} ${2 * r}m0 ${-2 * r}l${-2 * r} ${2 * r}`}
          stroke="var(--color-persimmon)"
          strokeWidth={1.8 * size}
          strokeDasharray={`${2.5 * size} ${1.5 * size}`}
        />
      ))}
      {fit.worst && (
        <circle
          cx={fit.worst[0]}
          cy={fit.worst[1]}
          r={12 * size}
          fill="none"
          stroke="var(--color-persimmon)"
          strokeWidth={2 * size}
        />
      )}
    </g>
  );
}

/** Where one moment alone shows what was chosen, hatched twice; where less than half do, once; what is made up, upright. */
function Hatched({ set, size }: { set: SetDetail; size: number }) {
  const canvas = set.canvas;
  const reference = set.reference_size;
  // Over all that was decided on: the canvas where it reaches beyond the reference.
  const [wide, high] = set.recipe.canvas === "whole" ? [canvas?.width, canvas?.height] : (reference ?? [0, 0]);
  const [left, top] = set.recipe.canvas === "whole" ? [0, 0] : [canvas?.x ?? 0, canvas?.y ?? 0];
  if (!canvas || !reference || set.plate_key == null || set.draft || set.recipe.method !== "consensus") return null;
  const kinds = set.recipe.touches.length ? (["few", "alone", "invented"] as const) : (["few", "alone"] as const);
  return (
    <g data-testid="evidence">
      {kinds.map((kind) => (
        <g key={kind}>
          <pattern
            id={`evidence-${kind}`}
            patternUnits="userSpaceOnUse"
            width={7 * size}
            height={7 * size}
            patternTransform={`rotate(${{ few: 45, alone: -45, invented: 0 }[kind]})`}
          >
            <line x1={0} x2={0} y1={0} y2={7 * size} stroke="#262522" strokeWidth={2.4 * size} strokeOpacity={0.55} />
            <line
              x1={0}
              x2={0}
              y1={0}
              y2={7 * size}
              stroke={kind === "few" ? "#f4f1ea" : "var(--color-persimmon)"}
              strokeWidth={1.3 * size}
            />
          </pattern>
          <mask id={`where-${kind}`} maskUnits="userSpaceOnUse" x={0} y={0} width={canvas.width} height={canvas.height}>
            <image
              href={evidence(set.id, set.plate_key ?? "", kind)}
              x={-left}
              y={-top}
              width={wide}
              height={high}
              preserveAspectRatio="none"
            />
          </mask>
          <rect
            x={0}
            y={0}
            width={canvas.width}
            height={canvas.height}
            fill={`url(#evidence-${kind})`}
            mask={`url(#where-${kind})`}
          />
        </g>
      ))}
    </g>
  );
}

/** The lift that is open or pointed at in the list. */
function Lifts({ set, size }: { set: SetDetail; size: number }) {
  const { patch: index } = useView();
  const canvas = set.canvas;
  const lift = index == null ? undefined : set.recipe.patches[index];
  const told = usePatchInfo(set, lift);
  if (!canvas || !lift || (lift.on !== set.reference && !told)) return null;
  const placed = (outline: Point[]) => path(outline.map((p) => [p.x - canvas.x, p.y - canvas.y]));
  const found = (lift.optimal_seam || lift.transform) && told?.border.length ? told.border : null;
  return (
    <g data-testid="lift-outline">
      {found && lift.on === set.reference && (
        <path
          d={placed(lift.outline)}
          fill="none"
          stroke="white"
          strokeOpacity={0.75}
          strokeWidth={1.2 * size}
          strokeDasharray={`${2 * size} ${4 * size}`}
        />
      )}
      {(found ?? [lift.outline]).map((outline, k) => (
        <Outline key={k} d={placed(outline)} size={size} stroke="var(--color-verdigris)" dashed={lift.disabled} />
      ))}
      {lift.optimal_seam &&
        told &&
        told.takes > 0 &&
        told.brings.map((outline, k) => (
          <Outline key={k} d={placed(outline)} size={size} stroke="var(--color-persimmon)" dashed />
        ))}
    </g>
  );
}

/** Places where lifts can be seen, framed a little way off, while they are marked. */
function Seams({ set, size }: { set: SetDetail; size: number }) {
  const { marked } = useView();
  const seams = useSeams(set, marked);
  const canvas = set.canvas;
  if (!canvas || !marked) return null;
  const gap = 4 * size;
  return (
    <g data-testid="seams">
      {seams?.map(({ place }, k) => {
        const d = path(
          [
            [0, 0],
            [1, 0],
            [1, 1],
            [0, 1],
          ].map(([x = 0, y = 0]) => [
            place.x - canvas.x - gap + x * (place.width + 2 * gap),
            place.y - canvas.y - gap + y * (place.height + 2 * gap),
          ]),
        );
        return <Outline key={k} d={d} size={size} stroke="var(--color-persimmon)" dashed />;
      })}
    </g>
  );
}

/** Kept areas, while one is pointed at or a place is being taken. */
function Keeps({ set, size }: { set: SetDetail; size: number }) {
  const { keep, patch, drawing, loop } = useView();
  const canvas = set.canvas;
  if (!canvas || (keep == null && patch == null && !drawing && !loop)) return null;
  return (
    <g data-testid="keeps">
      {set.recipe.protected.map((k, i) =>
        k.on === set.reference && (keep == null || keep === i) ? (
          <Outline
            key={i}
            d={path(k.outline.map((p) => [p.x - canvas.x, p.y - canvas.y]))}
            size={size}
            stroke="var(--color-ink)"
            dashed={false}
          />
        ) : null,
      )}
    </g>
  );
}

/** Areas drawn on the frame that is the reference now. */
function Areas({ set, size }: { set: SetDetail; size: number }) {
  const canvas = set.canvas;
  if (!canvas) return null;
  const own = set.recipe.areas.filter((a) => a.on === set.reference);
  return (
    <>
      {own.map((a, k) => {
        const d = path(a.outline.map((p) => [p.x - canvas.x, p.y - canvas.y]));
        const ignore = a.guide === "ignore";
        return (
          <g key={k} data-testid={`area-${a.guide}`}>
            <path d={d} fill="none" stroke="white" strokeWidth={3.4 * size} />
            <path
              d={d}
              fill="none"
              stroke={`var(--color-${ignore ? "persimmon" : "verdigris"})`}
              strokeWidth={1.8 * size}
              strokeDasharray={ignore ? `${6 * size} ${4 * size}` : undefined}
            />
          </g>
        );
      })}
    </>
  );
}
