// The picture: pan and zoom over one view, the divider, the held frame, the pointer's place, the overview map.
import OpenSeadragon from "openseadragon";
import { useEffect, useRef, useState } from "react";
import type { SetDetail } from "../api/client";
import { drawn, looking, type OpenSet } from "../api/useSet";
import { HandBar } from "../hand/HandBar";
import { PairPanel } from "../hand/PairPanel";
import { gridOf, Slot, type Keys } from "./layers";
import { filterOf, LightFilters } from "./light";
import { MiniMap } from "./MiniMap";
import { frameNumber, viewTitle } from "./names";
import { boxOf } from "../patches/patches";
import { useView } from "../state/store";
import { kinOf, plateKeys } from "./tiles";
import { Overlay } from "./Overlay";
import { camera } from "./camera";
import { Coming, nowShown } from "./Coming";
import { agreement, frameView, isSame, plate, tileName, type View } from "./views";
import { within } from "./within";

/** Milliseconds that each side of a comparison stays when they take turns. */
const TURN = 600;

/** The most milliseconds for which the page waits for the picture after an act. */
const FIRST = 250;

/** How much what differs is brightened. */
const DIFFERENCE = 4;

const compareWords = { divide: "", turns: "", through: ", see-through", difference: ", what differs" };

interface Slots {
  base: Slot;
  other: Slot;
  before: Slot;
  peek: Slot;
}

export function Picture({ open, set }: { open: OpenSet; set: SetDetail }) {
  const page = useRef<HTMLDivElement>(null);
  const box = useRef<HTMLDivElement>(null);
  const viewerRef = useRef<OpenSeadragon.Viewer | null>(null);
  const slots = useRef<Slots | null>(null);
  // The set when its plate's tiles were named last.
  const named = useRef<SetDetail | null>(null);
  // An answer that the picture shows before the page does: what is done once it shows it, and what draws the page.
  const coming = useRef<{ shown?: () => void; draw: () => void } | null>(null);
  const [bounds, setBounds] = useState({ x: 0, y: 0, width: 1, height: 1 });
  const {
    view,
    other: wanted,
    divider,
    holding,
    surround,
    pinned,
    compare,
    states,
    hand,
    pairing,
    loop,
    peek,
    doubt,
    light,
    set: put,
  } = useView();
  const [second, setSecond] = useState(false);
  const canvas = set.canvas;
  // A state that covers another area cannot be laid beside this one.
  const state = wanted?.kind === "state" ? states[wanted.seq] : undefined;
  const other =
    wanted?.kind === "state" && (state?.width !== canvas?.width || state?.height !== canvas?.height) ? null : wanted;
  const width = canvas?.width ?? 0;
  const height = canvas?.height ?? 0;

  useEffect(() => {
    if (!box.current) return;
    const viewer = new OpenSeadragon.Viewer({
      element: box.current,
      showNavigationControl: false,
      drawer: "canvas",
      animationTime: 0.25,
      springStiffness: 12,
      minZoomImageRatio: 0.8,
      maxZoomPixelRatio: 16,
      visibilityRatio: 0.4,
      imageSmoothingEnabled: true,
      immediateRender: true,
      gestureSettingsMouse: { clickToZoom: false, dblClickToZoom: false, flickEnabled: false },
      gestureSettingsPen: { clickToZoom: false, dblClickToZoom: false },
      gestureSettingsTouch: { clickToZoom: false, dblClickToZoom: false },
    });
    // Keys belong to the application, not to the viewer.
    viewer.addHandler("canvas-key", (e) => {
      (e as { preventDefaultAction?: boolean }).preventDefaultAction = true;
    });
    viewerRef.current = viewer;
    const arrange = () => clip(viewer, slots.current);
    slots.current = {
      // Told at once, not when the page is drawn next, which leaves it alone.
      base: new Slot(viewer, arrange, (name) => {
        page.current?.setAttribute("data-complete", name);
        nowShown(name);
        const answer = coming.current;
        if (!answer) return;
        answer.shown?.();
        // The rest once that is on the screen.
        requestAnimationFrame(() => setTimeout(answer.draw));
      }),
      other: new Slot(viewer, arrange, () => {}),
      before: new Slot(viewer, arrange, () => {}),
      peek: new Slot(viewer, arrange, () => {}),
    };
    const moved = () => {
      clip(viewer, slots.current);
      const image = viewer.world.getItemAt(0);
      if (!image) return;
      const b = image.viewportToImageRectangle(viewer.viewport.getBounds(true));
      setBounds((now) =>
        now.x === b.x && now.y === b.y && now.width === b.width && now.height === b.height
          ? now
          : { x: b.x, y: b.y, width: b.width, height: b.height },
      );
      const zoom = image.viewportToImageZoom(viewer.viewport.getZoom(true)) * window.devicePixelRatio;
      // Whole pixels are shown as such once they are larger than the screen's.
      viewer.drawer.setImageSmoothingEnabled(zoom < 1.99);
      // Whatever is set has the whole page drawn.
      if (zoom !== useView.getState().zoom) useView.getState().set({ zoom });
    };
    viewer.addHandler("update-viewport", moved);
    looking.at = () => {
      const { view, drawing } = useView.getState();
      return (view.kind === "plate" || drawing) && slots.current ? slots.current.base.spots : [];
    };
    looking.show = (next, { back, shown }, draw) => {
      looking.settle();
      const { view } = useView.getState();
      const [grid, keys] = [gridOf(next), plateKeys(next)];
      const answer = {
        shown,
        draw: () => {
          if (coming.current !== answer) return;
          coming.current = null;
          clearTimeout(late);
          draw();
          const { view: now, set: put } = useView.getState();
          if (back && isSame(now, back)) put({ view: plate });
        },
      };
      coming.current = answer;
      const late = setTimeout(answer.draw, FIRST);
      const first =
        (view.kind === "plate" || isSame(view, back ?? null)) &&
        keys &&
        !next.draft &&
        slots.current?.base.show(grid, next.plate_key ?? "", "plate", keys, kinOf(named.current, next));
      if (!first) answer.draw();
    };
    looking.settle = () => coming.current?.draw();
    camera.whole = () => void viewer.viewport.goHome();
    camera.hundred = () => {
      const image = viewer.world.getItemAt(0);
      if (image) viewer.viewport.zoomTo(image.imageToViewportZoom(1 / window.devicePixelRatio));
    };
    camera.afar = () => {
      const image = viewer.world.getItemAt(0);
      if (!image) return;
      const quarter = image.imageToViewportZoom(0.25 / window.devicePixelRatio);
      viewer.viewport.goHome();
      if (quarter < viewer.viewport.getHomeZoom()) viewer.viewport.zoomTo(quarter);
    };
    camera.zoomBy = (factor) => void viewer.viewport.zoomBy(factor).applyConstraints();
    camera.panBy = (dx, dy) =>
      void viewer.viewport
        .panBy(viewer.viewport.deltaPointsFromPixels(new OpenSeadragon.Point(dx, dy)))
        .applyConstraints();
    camera.show = (place) => {
      const image = viewer.world.getItemAt(0);
      if (!image) return;
      // With its surroundings, and never larger than twice its pixels.
      const all = image.getContentSize();
      const { clientWidth, clientHeight } = viewer.container;
      const across = Math.min(all.x, Math.max(3 * place.width, (clientWidth * 0.5) / window.devicePixelRatio));
      const down = Math.min(all.y, Math.max(3 * place.height, (clientHeight * 0.5) / window.devicePixelRatio));
      // As much more of one side as the window shows.
      const width = Math.max(across, (down * clientWidth) / clientHeight);
      const height = (width * clientHeight) / clientWidth;
      const x = within(place.x + place.width / 2, width, all.x) - width / 2;
      const y = within(place.y + place.height / 2, height, all.y) - height / 2;
      viewer.viewport.fitBounds(image.imageToViewportRectangle(x, y, width, height));
    };
    return () => {
      nowShown("");
      looking.settle();
      looking.at = () => [];
      looking.show = drawn;
      looking.settle = () => {};
      viewer.destroy();
      viewerRef.current = null;
      slots.current = null;
    };
  }, []);

  // The views that are wanted, in their slots.
  const key = (of: View) => {
    switch (of.kind) {
      case "state":
        return states[of.seq]?.key ?? "";
      case "frame":
      case "difference":
        return set.frame_key ?? "";
      default:
        return set.plate_key ?? "";
    }
  };
  const grid = gridOf(set);
  // Only the set's own plate is known by its parts.
  const names = set.tile_names;
  const tiles = (of: View): Keys | undefined =>
    names && of.kind === "bare"
      ? () => names.bare
      : isSame(of, plate) || isSame(of, agreement)
        ? plateKeys(set)
        : undefined;
  useEffect(() => {
    if (set.tile_names) named.current = set;
    const s = slots.current;
    if (!s) return;
    const show = (slot: Slot, of: View | null, own?: Keys) =>
      slot.show(of && grid, of ? key(of) : "", of ? tileName(of, set) : "", own);
    // The page may be behind the picture.
    if (!coming.current) show(s.base, view, tiles(view));
    show(s.other, other, other ? tiles(other) : undefined);
    // The held frame is fetched as soon as the plate is there, so that it comes at once.
    show(s.peek, peek == null ? null : frameView(peek));
    show(s.before, set.reference == null ? null : frameView(set.reference));
  });
  useEffect(() => {
    if (compare !== "turns" || !other) return;
    const timer = setInterval(() => setSecond((now) => !now), TURN);
    return () => clearInterval(timer);
  }, [compare, other]);
  useEffect(() => {
    if (viewerRef.current) clip(viewerRef.current, slots.current, second);
  }, [divider, other, holding, compare, second, loop, pinned]);
  useEffect(() => {
    camera.whole();
  }, [width, height]);

  const placeAt = (clientX: number, clientY: number, anywhere = false) => {
    const viewer = viewerRef.current;
    const image = viewer?.world.getItemAt(0);
    const rect = box.current?.getBoundingClientRect();
    if (!viewer || !image || !rect) return null;
    const p = image.viewerElementToImageCoordinates(new OpenSeadragon.Point(clientX - rect.left, clientY - rect.top));
    return anywhere || (p.x >= 0 && p.y >= 0 && p.x < width && p.y < height) ? { x: p.x, y: p.y } : null;
  };
  const pressed = useRef<{ x: number; y: number } | null>(null);
  const mark = pinned &&
    !loop &&
    doubt === null && {
      left: ((pinned.x - bounds.x) / bounds.width) * 100,
      top: ((pinned.y - bounds.y) / bounds.height) * 100,
    };

  return (
    <div
      ref={page}
      className={`surround-${surround} relative h-full w-full overflow-hidden select-none`}
      data-testid="picture"
      data-complete=""
      data-settled={set.draft ? undefined : set.plate_key}
      onPointerMove={(e) => put({ pointer: placeAt(e.clientX, e.clientY) })}
      onPointerLeave={() => put({ pointer: null })}
      onPointerDown={(e) => (pressed.current = { x: e.clientX, y: e.clientY })}
      onPointerUp={(e) => {
        const p = pressed.current;
        pressed.current = null;
        // A click, not a drag, keeps the place in the look-through.
        if (p && Math.hypot(e.clientX - p.x, e.clientY - p.y) < 4 && !(e.target as Element).closest("[data-own]"))
          put({ pinned: placeAt(e.clientX, e.clientY), loop: null, doubt: null });
      }}
    >
      <LightFilters />
      <div
        ref={box}
        className="absolute inset-0"
        style={{
          filter: other && compare === "difference" && !holding ? `brightness(${DIFFERENCE})` : filterOf(light),
        }}
        data-light={light}
      />
      <Overlay open={open} set={set} bounds={bounds} placeAt={placeAt} />
      {mark && (
        <div className="pointer-events-none absolute" style={{ left: `${mark.left}%`, top: `${mark.top}%` }}>
          <div className="absolute -top-4 -left-4 h-8 w-8 border-2 border-white outline outline-1 outline-black" />
        </div>
      )}
      {other && !holding && compare === "divide" && <Divider box={box} />}
      {hand !== null && <HandBar open={open} set={set} />}
      {hand !== null && pairing && <PairPanel open={open} set={set} />}
      <MiniMap set={set} bounds={bounds} width={width} height={height} />
      <Coming set={set} view={view} />
      {holding && <Tag text={`Frame ${frameNumber(set, set.reference)} as shot`} />}
      {!holding && other && compare === "turns" && <Tag text={viewTitle(set, second ? other : view)} />}
      {!holding && other && compare !== "turns" && (
        <>
          <Tag text={viewTitle(set, view)} />
          <Tag text={`${viewTitle(set, other)}${compareWords[compare]}`} right />
        </>
      )}
      {!holding && !other && view.kind !== "plate" && <Tag text={viewTitle(set, view)} />}
    </div>
  );
}

function Tag({ text, right }: { text: string; right?: boolean }) {
  return (
    <div className={`pointer-events-none absolute top-2 bg-leaf px-2 py-0.5 text-sm ${right ? "right-2" : "left-2"}`}>
      {text}
    </div>
  );
}

/** Shows a part of an image. Whatever is set has everything drawn again, so it is set only when it is another. */
function cut(image: OpenSeadragon.TiledImage, part: OpenSeadragon.Rect) {
  if (!image.getClip()?.equals(part)) image.setClip(part);
}

/** Cuts the other view at the divider and brings the held one to the front; called whenever something was drawn. */
function clip(viewer: OpenSeadragon.Viewer, slots: Slots | null, second = true) {
  if (!slots) return;
  const { divider, other, holding, compare, loop, pinned } = useView.getState();
  const { image: right } = slots.other;
  const { image: before } = slots.before;
  const base = slots.base.image;
  const top = viewer.world.getItemCount() - 1;
  if (before) {
    if (viewer.world.getIndexOfItem(before) !== top) viewer.world.setItemIndex(before, top);
    before.setOpacity(holding ? 1 : 0);
    // Loaded though unseen, so that it is there the moment it is asked for.
    if (!before.getPreload()) before.setPreload(true);
  }
  const peek = slots.peek.image;
  if (peek && (loop || pinned)) {
    // The frame that is pointed at shows in place: in the loop's box, or as much around the place as a crop does.
    const size = 132 / (useView.getState().zoom / window.devicePixelRatio || 1);
    const box = loop
      ? boxOf(loop)
      : { x: (pinned?.x ?? 0) - size / 2, y: (pinned?.y ?? 0) - size / 3, width: size, height: (2 * size) / 3 };
    cut(peek, new OpenSeadragon.Rect(box.x, box.y, box.width, box.height));
    const last = before ? top - 1 : top;
    if (last >= 0 && viewer.world.getIndexOfItem(peek) !== last) viewer.world.setItemIndex(peek, last);
  }
  if (right && base) {
    const at = base.viewerElementToImageCoordinates(
      new OpenSeadragon.Point(viewer.container.clientWidth * divider, 0),
    ).x;
    const size = base.getContentSize();
    const from = compare !== "divide" ? 0 : Math.min(Math.max(at, 0), size.x);
    right.setOpacity(
      !other || from >= size.x ? 0 : compare === "through" ? 0.5 : compare === "turns" && !second ? 0 : 1,
    );
    // While the frame as shot is held, nothing is taken off it.
    right.setCompositeOperation(compare === "difference" && !holding ? "difference" : "source-over");
    cut(right, new OpenSeadragon.Rect(from, 0, Math.max(size.x - from, 1), size.y));
  }
}

function Divider({ box }: { box: React.RefObject<HTMLDivElement | null> }) {
  const { divider, set } = useView();
  const drag = (e: React.PointerEvent) => {
    const rect = box.current?.getBoundingClientRect();
    if (rect && e.currentTarget.hasPointerCapture(e.pointerId))
      set({ divider: Math.min(0.98, Math.max(0.02, (e.clientX - rect.left) / rect.width)) });
  };
  return (
    <div
      data-own
      role="slider"
      tabIndex={0}
      aria-label="Divider between two views"
      aria-valuenow={Math.round(divider * 100)}
      aria-valuemin={2}
      aria-valuemax={98}
      data-testid="divider"
      className="absolute top-0 bottom-0 z-10 w-5 -translate-x-1/2 cursor-ew-resize touch-none"
      style={{ left: `${divider * 100}%` }}
      onPointerDown={(e) => {
        e.stopPropagation();
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={drag}
      onPointerUp={(e) => e.currentTarget.releasePointerCapture(e.pointerId)}
      onKeyDown={(e) => {
        const by = e.key === "ArrowLeft" ? -0.02 : e.key === "ArrowRight" ? 0.02 : 0;
        if (by) {
          e.stopPropagation();
          set({ divider: Math.min(0.98, Math.max(0.02, divider + by)) });
        }
      }}
    >
      <div className="mx-auto h-full w-0.5 bg-white outline outline-1 outline-black/60" />
      <div className="absolute bottom-6 left-1/2 h-9 w-3 -translate-x-1/2 border border-black bg-white" />
    </div>
  );
}
