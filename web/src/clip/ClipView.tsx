// The clip where the picture is: played, stepped through frame by frame, compared, and mended by brush.
import { useEffect, useRef, useState, type PointerEvent } from "react";
import type { ClipState, Point, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { Pen, Ring } from "../drawing/Pen";
import { camera } from "../picture/camera";
import { filterOf, LightFilters } from "../picture/light";
import { useView } from "../state/store";
import { framePicture, mend, playFile } from "./clip";
import { frameAt, useTime, within, type Showing } from "./time";

/** Where the picture lies on the page. */
interface Lies {
  scale: number;
  left: number;
  top: number;
}

type Source = CanvasImageSource & { width?: number };

export function ClipView({ open, set, clip }: { open: OpenSet; set: SetDetail; clip: ClipState }) {
  const { at, playing, showing, holding, line, mending, zoom, middle, carried, set: put } = useTime();
  const { light, surround, brush } = useView();
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const video = useRef<HTMLVideoElement>(null);
  const [room, setRoom] = useState({ width: 0, height: 0 });
  const [stroke, setStroke] = useState<Point[]>([]);
  const [width = 1, height = 1] = clip.size;
  const whole = Math.min(room.width / width, room.height / height) || 1;
  const scale = zoom ?? whole;
  const lies: Lies = {
    scale,
    left: zoom == null ? (room.width - scale * width) / 2 : room.width / 2 - middle.x * scale * width,
    top: zoom == null ? (room.height - scale * height) / 2 : room.height / 2 - middle.y * scale * height,
  };
  const shown: Showing = holding ? "shot" : showing;
  const pictures = usePictures(set, clip, at, playing);

  useEffect(() => {
    if (!box.current) return;
    const watch = new ResizeObserver(([entry]) => entry && setRoom(entry.contentRect));
    watch.observe(box.current);
    return () => watch.disconnect();
  }, []);

  useCamera(width, height, whole);

  // The frame that is sharp, once it is there; until then that of the small clip.
  useEffect(() => {
    const own = canvas.current;
    if (!own || playing) return;
    const { before, after } = pictures;
    if (before && after) draw(own, { before, after }, clip, lies, shown, line);
    else if (video.current && clip.laid) drawVideo(own, video.current, clip, lies, shown, line);
  });

  useEffect(() => {
    const film = video.current;
    if (!film || !clip.laid) return;
    if (!playing) {
      film.pause();
      film.currentTime = within(clip.seconds, at);
      return;
    }
    void film.play().catch(() => put({ playing: false }));
    return () => film.pause();
    // The time follows the film while it plays.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [playing, clip.key, clip.laid != null]);

  useEffect(() => {
    if (!playing && video.current && clip.laid) video.current.currentTime = within(clip.seconds, at);
  }, [at, playing, clip]);

  const now = useRef({ clip, lies, shown, line });
  useEffect(() => {
    now.current = { clip, lies, shown, line };
  });
  useEffect(() => {
    const film = video.current;
    if (!film || !playing) return;
    let asked = 0;
    const next = (_: number, { mediaTime }: { mediaTime: number }) => {
      const { clip, lies, shown, line } = now.current;
      if (canvas.current) drawVideo(canvas.current, film, clip, lies, shown, line);
      const k = frameAt(clip.seconds, mediaTime);
      const { loop, at } = useTime.getState();
      if (loop && k >= loop[1]) film.currentTime = within(clip.seconds, loop[0]);
      if (k !== at) put({ at: k });
      asked = film.requestVideoFrameCallback(next);
    };
    asked = film.requestVideoFrameCallback(next);
    const ended = () => {
      const { loop } = useTime.getState();
      film.currentTime = within(now.current.clip.seconds, loop?.[0] ?? 0);
      void film.play().catch(() => put({ playing: false }));
    };
    film.addEventListener("ended", ended);
    return () => {
      film.cancelVideoFrameCallback(asked);
      film.removeEventListener("ended", ended);
    };
  }, [playing, put]);

  const place = (x: number, y: number): Point | null => {
    const corner = box.current?.getBoundingClientRect();
    if (!corner) return null;
    const p = { x: (x - corner.left - lies.left) / scale, y: (y - corner.top - lies.top) / scale };
    return p.x < -40 || p.y < -40 || p.x > width + 40 || p.y > height + 40 ? null : p;
  };
  const drag = useRef<{ x: number; y: number; middle: Point; line: boolean } | null>(null);
  const onLine = (e: PointerEvent) =>
    shown === "divide" && Math.abs(e.nativeEvent.offsetX - (lies.left + line * scale * width)) < 12;
  const radius = brush / scale;
  const path = (points: Point[]) => points.map((p) => `${p.x},${p.y}`).join(" ");
  return (
    <div
      ref={box}
      className={`surround-${surround} relative h-full overflow-hidden touch-none`}
      data-testid="clip-view"
      data-frame={at}
      data-sharp={pictures.before && pictures.after && !playing ? at : ""}
      onWheel={(e) => {
        const corner = e.currentTarget.getBoundingClientRect();
        zoomAbout(e.deltaY < 0 ? 1.25 : 0.8, { x: e.clientX - corner.left, y: e.clientY - corner.top }, lies, room, [
          width,
          height,
        ]);
      }}
      onPointerDown={(e) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        drag.current = { x: e.clientX, y: e.clientY, middle, line: onLine(e) };
      }}
      onPointerMove={(e) => {
        const from = drag.current;
        if (!from) return;
        if (from.line) {
          const corner = e.currentTarget.getBoundingClientRect();
          put({ line: Math.min(1, Math.max(0, (e.clientX - corner.left - lies.left) / (scale * width))) });
        } else if (zoom != null)
          put({
            middle: {
              x: from.middle.x - (e.clientX - from.x) / (scale * width),
              y: from.middle.y - (e.clientY - from.y) / (scale * height),
            },
          });
      }}
      onPointerUp={() => (drag.current = null)}
    >
      {/* Played from here, drawn on the canvas: before and after stay in step whatever is compared. */}
      <video
        ref={video}
        src={clip.laid ? playFile(set.id, clip) : undefined}
        preload="auto"
        playsInline
        className="pointer-events-none absolute h-px w-px opacity-0"
        onSeeked={() => {
          if (!useTime.getState().playing && canvas.current && video.current && !pictures.after)
            drawVideo(canvas.current, video.current, clip, lies, shown, line);
        }}
      />
      <LightFilters />
      <canvas
        ref={canvas}
        width={Math.max(1, Math.round(room.width))}
        height={Math.max(1, Math.round(room.height))}
        className="absolute inset-0"
        style={{ filter: filterOf(light) }}
      />
      {shown === "divide" && (
        <div
          className="pointer-events-none absolute inset-y-0 w-0.5 bg-leaf outline outline-ink/60"
          style={{ left: lies.left + line * scale * width - 1 }}
        >
          <span className="absolute top-2 right-2 bg-leaf px-1.5 text-[13px] whitespace-nowrap">as shot</span>
          <span className="absolute top-2 left-2 bg-leaf px-1.5 text-[13px] whitespace-nowrap">with the patch</span>
        </div>
      )}
      {!clip.laid && (
        <p className="absolute bottom-2 left-1/2 -translate-x-1/2 bg-leaf px-3 py-1 text-sm whitespace-nowrap">
          {clip.covered > 0
            ? "Single frames show the patch at once; lay it on every frame to play it (Clip, on the job sheet)"
            : "Nothing is covered yet: retouch the plate, or draw around a place there and cover it in the clip"}
        </p>
      )}
      {mending && (
        <Pen
          name="clip-mending"
          says={
            mending === "front"
              ? "Brush over who is in front: the frame stays there"
              : "Brush where the patch is to lie"
          }
          placeAt={place}
          press={(p) => (put({ playing: false }), setStroke([p]))}
          move={(p) => setStroke((s) => [...s, p])}
          end={() => {
            if (stroke.length)
              void mend(open, set, { frame: at, front: mending === "front", radius, path: thinned(stroke) }, carried);
            setStroke([]);
          }}
          wheel={(way) => useView.getState().set({ brush: Math.min(200, Math.max(3, brush * 1.15 ** way)) })}
        >
          {(pointer) => (
            <svg className="pointer-events-none absolute inset-0 h-full w-full">
              <g transform={`translate(${lies.left} ${lies.top}) scale(${scale})`}>
                {stroke.length > 0 && (
                  <polyline
                    points={path(stroke.length > 1 ? stroke : [...stroke, ...stroke])}
                    fill="none"
                    stroke={mending === "front" ? "var(--color-verdigris)" : "var(--color-persimmon)"}
                    strokeOpacity={0.5}
                    strokeWidth={2 * radius}
                    strokeLinecap="round"
                    strokeLinejoin="round"
                  />
                )}
                {pointer && <Ring at={pointer.place} radius={radius} size={1 / scale} />}
              </g>
            </svg>
          )}
        </Pen>
      )}
    </div>
  );
}

/** As few corners as a stroke may have. */
function thinned(path: Point[]): Point[] {
  const step = Math.ceil(path.length / 200);
  return path.filter((_, k) => k % step === 0 || k === path.length - 1);
}

/** The frame at full size, before and after; what was asked for first is let go. */
function usePictures(set: SetDetail, clip: ClipState, at: number, playing: boolean) {
  const [loaded, setLoaded] = useState<{ name: string; before: HTMLImageElement; after: HTMLImageElement } | null>(
    null,
  );
  const name = `${clip.key} ${at}`;
  useEffect(() => {
    if (playing) return;
    let gone = false;
    const load = (kind: "clean" | "shot") => {
      const image = new Image();
      image.src = framePicture(set.id, clip, at, kind);
      return image.decode().then(() => image);
    };
    // Not for every frame that is only passed by.
    const later = setTimeout(() => {
      Promise.all([load("shot"), load("clean")])
        .then(([before, after]) => !gone && setLoaded({ name, before, after }))
        .catch(() => {}); // the set is changing; its new state brings new pictures
    }, 60);
    return () => {
      gone = true;
      clearTimeout(later);
    };
  }, [set.id, clip, at, playing, name]);
  const there = !playing && loaded?.name === name ? loaded : null;
  return { before: there?.before ?? null, after: there?.after ?? null };
}

/** The acts of the strip above the picture, for the clip. */
function useCamera(width: number, height: number, whole: number) {
  const zoom = useTime((s) => s.zoom);
  useEffect(() => useView.getState().set({ zoom: (zoom ?? whole) * window.devicePixelRatio }), [zoom, whole]);
  useEffect(() => {
    const put = useTime.getState().set;
    const kept = { ...camera };
    camera.whole = () => put({ zoom: null, middle: { x: 0.5, y: 0.5 } });
    camera.hundred = () => put({ zoom: 1 / window.devicePixelRatio });
    camera.afar = () => put({ zoom: 0.25 / window.devicePixelRatio });
    camera.zoomBy = (factor) => put({ zoom: bounded((useTime.getState().zoom ?? whole) * factor, whole) });
    camera.panBy = (dx, dy) => {
      const { zoom, middle } = useTime.getState();
      if (zoom != null) put({ middle: { x: middle.x + dx / zoom / width, y: middle.y + dy / zoom / height } });
    };
    camera.show = () => {};
    return () => void Object.assign(camera, kept);
  }, [width, height, whole]);
}

const bounded = (zoom: number, whole: number) => (zoom <= whole ? null : Math.min(16, zoom));

function zoomAbout(
  factor: number,
  at: Point,
  lies: Lies,
  room: { width: number; height: number },
  [width, height]: [number, number],
) {
  const whole = Math.min(room.width / width, room.height / height) || 1;
  const zoom = bounded(lies.scale * factor, whole);
  if (zoom == null) return useTime.getState().set({ zoom: null, middle: { x: 0.5, y: 0.5 } });
  // What lies under the pointer stays there.
  const p = { x: (at.x - lies.left) / lies.scale, y: (at.y - lies.top) / lies.scale };
  useTime.getState().set({
    zoom,
    middle: {
      x: (p.x + (room.width / 2 - at.x) / zoom) / width,
      y: (p.y + (room.height / 2 - at.y) / zoom) / height,
    },
  });
}

interface Part {
  source: Source;
  x: number;
  y: number;
  width: number;
  height: number;
}

function drawVideo(
  canvas: HTMLCanvasElement,
  film: HTMLVideoElement,
  clip: ClipState,
  lies: Lies,
  showing: Showing,
  line: number,
) {
  const { videoWidth, videoHeight } = film;
  if (!videoWidth || film.readyState < 2) return;
  const half = (y: number): Part => ({ source: film, x: 0, y, width: videoWidth, height: videoHeight / 2 });
  paint(canvas, half(0), half(videoHeight / 2), clip, lies, showing, line);
}

function draw(
  canvas: HTMLCanvasElement,
  { before, after }: { before: HTMLImageElement; after: HTMLImageElement },
  clip: ClipState,
  lies: Lies,
  showing: Showing,
  line: number,
) {
  const all = (source: HTMLImageElement): Part => ({
    source,
    x: 0,
    y: 0,
    width: source.naturalWidth,
    height: source.naturalHeight,
  });
  paint(canvas, all(before), all(after), clip, lies, showing, line);
}

function paint(
  canvas: HTMLCanvasElement,
  before: Part,
  after: Part,
  clip: ClipState,
  { scale, left, top }: Lies,
  showing: Showing,
  line: number,
) {
  const pen = canvas.getContext("2d");
  if (!pen) return;
  const [width = 1, height = 1] = clip.size.map((v) => scale * v);
  const lay = (p: Part) => pen.drawImage(p.source, p.x, p.y, p.width, p.height, left, top, width, height);
  pen.clearRect(0, 0, canvas.width, canvas.height);
  pen.imageSmoothingEnabled = scale * window.devicePixelRatio < 1.99;
  if (showing === "difference") {
    lay(before);
    pen.globalCompositeOperation = "difference";
    lay(after);
    // Four times as strong: what is there is added to itself.
    pen.globalCompositeOperation = "lighter";
    pen.drawImage(canvas, 0, 0);
    pen.drawImage(canvas, 0, 0);
    pen.globalCompositeOperation = "source-over";
    return;
  }
  lay(showing === "shot" ? before : after);
  if (showing === "divide") {
    pen.save();
    pen.beginPath();
    pen.rect(left, top, line * width, height);
    pen.clip();
    lay(before);
    pen.restore();
  }
}
