// Touches drawn over the picture: the one that is open with where it comes from, its plane, and a variant in its place.
import type { Point, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { Outline, path, type PlaceAt } from "../picture/outline";
import { useView } from "../state/store";
import { gridOn, type Quad } from "./geometry";
import { Source } from "./Source";
import { moveOf } from "./touches";

/** The touch that is open with where it comes from; a variant that is pointed at, in its place. */
export function Touches({
  open,
  set,
  size,
  placeAt,
}: {
  open: OpenSet;
  set: SetDetail;
  size: number;
  placeAt: PlaceAt;
}) {
  const { touch: index, variant, trying, drawing, copying } = useView();
  const canvas = set.canvas;
  if (!canvas) return null;
  const touch = index == null ? undefined : set.recipe.touches[index];
  const place = variant?.place;
  const move = touch && moveOf(touch.act);
  const moved = (p: Point) => [p.x - canvas.x, p.y - canvas.y];
  const outline = touch && touch.on === set.reference ? touch.outline : null;
  const shaped = trying?.touch ?? touch;
  const plane = (shaped?.plane ?? (drawing === "stroke" ? copying.plane : null)) as Quad | null | undefined;
  return (
    <g data-testid="touch-outline">
      {variant && place && (
        <image
          data-testid="variant-in-place"
          href={variant.picture}
          x={place.x - canvas.x}
          y={place.y - canvas.y}
          width={place.width}
          height={place.height}
          preserveAspectRatio="none"
        />
      )}
      {touch && outline && !trying && (
        <Outline d={path(outline.map(moved))} size={size} stroke="var(--color-verdigris)" dashed={touch.disabled} />
      )}
      {touch && outline && move && index != null && (
        <Source open={open} set={set} touch={touch} index={index} move={move} size={size} placeAt={placeAt} />
      )}
      {plane && (
        <g data-testid="plane" stroke="white" strokeOpacity={0.8} strokeWidth={0.9 * size}>
          {gridOn(plane).map(([a, b], k) => (
            <line key={k} x1={a.x - canvas.x} y1={a.y - canvas.y} x2={b.x - canvas.x} y2={b.y - canvas.y} />
          ))}
        </g>
      )}
      {[...(shaped?.barred ?? [])].map((barred, k) => (
        <Outline key={k} d={path(barred.map(moved))} size={size} stroke="var(--color-persimmon)" dashed />
      ))}
      {trying && (
        <Outline d={path(trying.touch.outline.map(moved))} size={size} stroke="var(--color-verdigris)" dashed />
      )}
    </g>
  );
}
