// Copying by strokes: the source is chosen by one gesture, shown under the brush in its place, and laid where one brushes.
import { useEffect, useRef, useState } from "react";
import type { PatchTransform, Point, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { Magnified } from "../drawing/Magnified";
import { Pen, Ring } from "../drawing/Pen";
import { resized } from "../drawing/slice";
import { boxOf } from "../patches/patches";
import { outlineOf, pressed, type Dab } from "../patches/stroke";
import { gridOf } from "../picture/layers";
import { pathOf, type Bounds, type PlaceAt } from "../picture/outline";
import { drawPart, type Shown } from "../picture/sampler";
import { plateKeys } from "../picture/tiles";
import { bare, frameView, plate, tileName, type View } from "../picture/views";
import { useView } from "../state/store";
import { tell } from "../ui/Notices";
import { inside } from "../patches/outlines";
import { backOf, ontoFrom, UNMOVED, type Move, type Quad } from "./geometry";
import { layStroke, type Copying } from "./touches";

/** Pixels around a stroke that go with it, so that nothing of what is blurred stays. */
const BORDER = 2;

/** The view that a copy takes from. */
function viewFrom(shown: Copying["shown"]): View {
  if (shown === "plate") return plate;
  return shown === "bare" ? bare : frameView(shown.frame);
}

function shownOf(set: SetDetail, of: Copying["shown"]): Shown | null {
  const grid = gridOf(set);
  if (!grid) return null;
  const view = viewFrom(of);
  const key = view.kind === "frame" ? (set.frame_key ?? "") : (set.plate_key ?? "");
  const names = set.tile_names;
  const keys =
    view.kind === "plate"
      ? (plateKeys(set) ?? (() => key))
      : view.kind === "bare"
        ? () => names?.bare ?? key
        : () => key;
  return { grid, keys, view: tileName(view, set) };
}

export function CopyBrush({
  open,
  set,
  bounds,
  size,
  placeAt,
}: {
  open: OpenSet;
  set: SetDetail;
  bounds: Bounds;
  size: number;
  placeAt: PlaceAt;
}) {
  const { copying, brush, zoom, magnified, set: put } = useView();
  const [stroke, setStroke] = useState<Dab[]>([]);
  /** The gesture that chooses a source, from it to where it goes. */
  const [arrow, setArrow] = useState<[Point, Point] | null>(null);
  const stopped = useRef(false);
  const last = useRef<Dab | null>(null);
  const turn = useRef(0);
  const radius = brush / (zoom / window.devicePixelRatio || 1);
  const { x: left = 0, y: top = 0 } = set.canvas ?? {};
  const { from, to, move } = copying;
  // In canvas pixels, as everything here.
  const plane = copying.plane && (copying.plane.map((p) => ({ x: p.x - left, y: p.y - top })) as Quad);
  const back: Move | null = from && to ? backOf(ontoFrom(from, to, move, to, plane), to, plane) : null;

  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      if ((e.target as HTMLElement).closest("input, select, textarea") || e.ctrlKey || e.metaKey || e.altKey) return;
      const now = useView.getState().copying;
      const turned = (part: Partial<PatchTransform>) => put({ copying: { ...now, move: { ...now.move, ...part } } });
      const by = e.shiftKey ? -1 : 1;
      const key = e.key.toLowerCase();
      const act =
        key === "j"
          ? () => turned({ turn: Math.max(-180, Math.min(180, now.move.turn + by)) })
          : key === "k"
            ? () =>
                turned({ scale: Math.max(0.1, Math.min(10, Math.round(1000 * now.move.scale * 1.02 ** by) / 1000)) })
            : key === "m" && e.shiftKey
              ? () => turned({ mirror: !now.move.mirror })
              : null;
      if (!act) return;
      e.preventDefault();
      e.stopPropagation();
      act();
    };
    window.addEventListener("keydown", keys, { capture: true });
    return () => window.removeEventListener("keydown", keys, { capture: true });
  }, [put]);

  /** Why a dab cannot be laid; null when it can. */
  const hindered = (dab: Dab, dabs: Dab[]): string | null => {
    if (!back) return null;
    const source = back(dab);
    const reach = dab.r / move.scale + BORDER;
    const { width = 0, height = 0 } = set.canvas ?? {};
    if (source.x < 0 || source.y < 0 || source.x >= width || source.y >= height)
      return "The source leaves the picture: the stroke ends here.";
    const own = [...dabs, dab];
    const meets = (a: Point, ra: number, b: Dab) => Math.hypot(a.x - b.x, a.y - b.y) < ra + b.r + BORDER;
    const before = own.some((d) => meets(source, reach, d));
    const meant = dabs.some((d) => {
      const s = back(d);
      return meets(s, d.r / move.scale + BORDER, dab);
    });
    if (before || meant)
      return "The source would run into what is to go: the stroke ends here. Begin with another source, or brush elsewhere.";
    if (copying.shown !== "plate") {
      const areas = set.recipe.touches.filter(
        (t) => !t.disabled && t.act !== "flare" && !("even" in t.act) && t.on === set.reference,
      );
      const p = { x: source.x + left, y: source.y + top };
      if (areas.some((t) => inside(p, t.outline)))
        return "The source would run into an area that is retouched: the stroke ends here. Take from the plate, or from elsewhere.";
    }
    return null;
  };
  const add = (p: Dab, dabs: Dab[]) => {
    if (stopped.current) return dabs;
    const why = hindered(p, dabs);
    if (!why) return [...dabs, p];
    stopped.current = true;
    tell(why);
    return dabs;
  };
  const finish = () => {
    const canvas = set.canvas;
    if (arrow) {
      const [a, b] = arrow;
      setArrow(null);
      if (Math.hypot(a.x - b.x, a.y - b.y) < 2 * size)
        return tell("Press on what is to be copied and drag to where it goes.");
      // What was done about the last source is not done about this one.
      return put({ copying: { ...copying, from: a, to: b, move: UNMOVED } });
    }
    last.current = stroke.at(-1) ?? null;
    if (!canvas || !from || !to || !stroke.length) return setStroke([]);
    const outline = outlineOf(stroke).map((p) => ({ x: p.x + canvas.x, y: p.y + canvas.y }));
    const box = boxOf(outline);
    const middle = { x: box.x + box.width / 2, y: box.y + box.height / 2 };
    const reference = (p: Point) => ({ x: p.x + canvas.x, y: p.y + canvas.y });
    const own = turn.current;
    void layStroke(
      open,
      set,
      outline,
      ontoFrom(reference(from), reference(to), move, middle, copying.plane),
      () => turn.current === own && setStroke([]),
    );
  };
  const off = from && to && { x: from.x - to.x, y: from.y - to.y };
  return (
    <Pen
      name="copy-brush"
      says={
        back
          ? "Brush; J turns the source, K enlarges it, Shift the other way; Shift click draws straight"
          : "Press on what is to be copied and drag to where it goes"
      }
      placeAt={placeAt}
      press={(p, e) => {
        stopped.current = false;
        turn.current++;
        if (!back) return setArrow([p, p]);
        const dab = { ...p, r: pressed(radius, e) };
        setStroke(add(dab, e.shiftKey && last.current ? straight(last.current, dab) : []));
      }}
      move={(p, e) => {
        if (!back) return setArrow((now) => now && [now[0], p]);
        const dab = { ...p, r: pressed(radius, e) };
        setStroke((now) => add(dab, now));
      }}
      end={finish}
      wheel={(way) => put({ brush: resized(brush, way) })}
    >
      {(at) => {
        const source = at && back?.(at.place);
        return (
          <>
            {back && (
              <Preview set={set} bounds={bounds} back={back} at={at?.place ?? null} stroke={stroke} radius={radius} />
            )}
            <svg
              viewBox={`${bounds.x} ${bounds.y} ${bounds.width} ${bounds.height}`}
              preserveAspectRatio="none"
              className="pointer-events-none absolute inset-0 h-full w-full"
            >
              {arrow && (
                <g data-testid="source-arrow" stroke="white" strokeWidth={2 * size} fill="none">
                  <circle cx={arrow[0].x} cy={arrow[0].y} r={radius} strokeDasharray={`${2 * size} ${4 * size}`} />
                  <path d={`M${arrow[0].x} ${arrow[0].y}L${arrow[1].x} ${arrow[1].y}`} />
                  <circle cx={arrow[1].x} cy={arrow[1].y} r={radius} />
                </g>
              )}
              {at && !arrow && (
                <g data-testid="ring">
                  <Ring at={at.place} radius={radius} soft={copying.soft} size={size} />
                  {source && (
                    <circle
                      data-testid="source-ring"
                      cx={source.x}
                      cy={source.y}
                      r={radius / move.scale}
                      fill="none"
                      stroke="white"
                      strokeWidth={1.4 * size}
                      strokeDasharray={`${2 * size} ${3 * size}`}
                    />
                  )}
                </g>
              )}
            </svg>
            {at && off && (
              <div
                data-testid="source-words"
                className="num pointer-events-none absolute bg-leaf/90 px-1.5 text-[13px] leading-tight"
                style={{ left: at.page.x + 18, top: at.page.y + 18 }}
              >
                {off.x.toFixed(0)}, {off.y.toFixed(0)} px
                {move.turn !== 0 && <> · {move.turn}°</>}
                {move.scale !== 1 && <> · {(100 * move.scale).toFixed(0)} %</>}
                {move.mirror && <> · mirrored</>}
              </div>
            )}
            {magnified && at && <Magnified set={set} at={at.place} page={at.page} radius={radius} />}
          </>
        );
      }}
    </Pen>
  );
}

/** Dabs from the last one on, straight. */
function straight(from: Dab, to: Dab): Dab[] {
  const steps = Math.max(1, Math.ceil(Math.hypot(to.x - from.x, to.y - from.y) / Math.max(1, from.r / 2)));
  return Array.from({ length: steps }, (_, k) => ({
    x: from.x + ((to.x - from.x) * k) / steps,
    y: from.y + ((to.y - from.y) * k) / steps,
    r: from.r,
  }));
}

/** What is laid, and under the brush what would be, at its final tone. */
function Preview({
  set,
  bounds,
  back,
  at,
  stroke,
  radius,
}: {
  set: SetDetail;
  bounds: Bounds;
  back: Move;
  at: Point | null;
  stroke: Dab[];
  radius: number;
}) {
  const { copying } = useView();
  const canvas = useRef<HTMLCanvasElement>(null);
  const [there, setThere] = useState(0);
  useEffect(() => {
    const element = canvas.current;
    const context = element?.getContext("2d");
    const from = shownOf(set, copying.shown);
    if (!element || !context || !from) return;
    const { clientWidth, clientHeight } = element;
    if (element.width !== clientWidth || element.height !== clientHeight)
      Object.assign(element, { width: clientWidth, height: clientHeight });
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.clearRect(0, 0, element.width, element.height);
    const zoom = element.width / bounds.width;
    context.imageSmoothingEnabled = zoom < 1.99;
    const onPage = () => context.setTransform(zoom, 0, 0, zoom, -bounds.x * zoom, -bounds.y * zoom);
    const draw = (clip: Path2D, around: Point, reach: { x: number; y: number; width: number; height: number }) => {
      context.save();
      onPage();
      context.clip(clip);
      // Close to a place a move in a plane is all but one that turns and stretches.
      const step = 1;
      const s = back(around);
      const right = back({ x: around.x + step, y: around.y });
      const lower = back({ x: around.x, y: around.y + step });
      const [a, c, b, d] = [right.x - s.x, right.y - s.y, lower.x - s.x, lower.y - s.y];
      const det = a * d - b * c;
      if (Math.abs(det) > 1e-9) {
        // From the source to here.
        context.transform(
          d / det,
          -c / det,
          -b / det,
          a / det,
          around.x - (d * s.x - b * s.y) / det,
          around.y - (a * s.y - c * s.x) / det,
        );
        const corners = [
          { x: reach.x, y: reach.y },
          { x: reach.x + reach.width, y: reach.y },
          { x: reach.x, y: reach.y + reach.height },
          { x: reach.x + reach.width, y: reach.y + reach.height },
        ].map((p) => ({
          x: s.x + a * (p.x - around.x) + b * (p.y - around.y),
          y: s.y + c * (p.x - around.x) + d * (p.y - around.y),
        }));
        drawPart(context, from, boxOf(corners), zoom / Math.sqrt(Math.abs(det)), () => setThere((n) => n + 1));
      }
      context.restore();
    };
    if (stroke.length) {
      const outline = outlineOf(stroke);
      const box = boxOf(outline);
      const middle = { x: box.x + box.width / 2, y: box.y + box.height / 2 };
      draw(new Path2D(pathOf(outline)), middle, box);
    }
    if (at) {
      const ring = new Path2D();
      ring.arc(at.x, at.y, radius, 0, 2 * Math.PI);
      draw(ring, at, { x: at.x - radius, y: at.y - radius, width: 2 * radius, height: 2 * radius });
    }
  }, [set, bounds, back, at, stroke, radius, copying.shown, there]);
  return (
    <canvas ref={canvas} data-testid="copy-preview" className="pointer-events-none absolute inset-0 h-full w-full" />
  );
}
