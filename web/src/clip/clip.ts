// The clip that a set's frames come from, and the acts on its repair.
import { useQuery } from "@tanstack/react-query";
import { api, type ClipState, type ClipStroke, type Point, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { useView } from "../state/store";
import { tellError } from "../ui/Notices";
import { useTime } from "./time";

export function useClip(set: SetDetail | undefined): ClipState | undefined {
  const run = set?.run;
  return useQuery({
    // What is covered follows from the plate and the recipe; a run that ends may have laid the patch.
    queryKey: [
      "clip",
      set?.id,
      set?.plate_key,
      JSON.stringify(set?.recipe.clip),
      run?.kind === "clip" ? run.state : "",
    ],
    queryFn: () => api.clip(set?.id ?? 0),
    enabled: set?.clip === true && set.plate_key != null && !set.draft,
    placeholderData: (before) => before,
  }).data;
}

export const framePicture = (set: number, clip: ClipState, at: number, kind: "clean" | "shot") =>
  `/api/sets/${set}/clip/${clip.key}/frames/${at}-${kind}.jpg`;

export const playFile = (set: number, clip: ClipState) => `/api/sets/${set}/clip/${clip.key}/play.mp4`;

export const slitPicture = (set: number, clip: ClipState) => `/api/sets/${set}/clip/${clip.key}/slit.png`;

/** Begins laying the patch on every frame. */
export const lay = (set: SetDetail) => void api.layClip(set.id).catch(tellError);

/** Has the open loop covered in the clip. */
export function coverInClip(open: OpenSet, set: SetDetail, loop: Point[], later: number | null) {
  const canvas = set.canvas ?? { x: 0, y: 0 };
  const outline = loop.map((p) => ({ x: p.x + canvas.x, y: p.y + canvas.y }));
  void open.change("cover a place in the clip", (now) => ({
    clip: { ...now.clip, held: [...now.clip.held, { outline, later }] },
  }));
  useView.getState().set({ loop: null, drawing: null });
}

/** Takes a still that was retouched elsewhere: only where it was changed it covers the clip. */
export async function takeBack(open: OpenSet, set: SetDetail, file: File) {
  try {
    const { still, outlines } = await api.returnStill(set.id, file);
    await open.change(`lay what was changed in ${file.name}`, (now) => ({
      clip: {
        ...now.clip,
        held: [...now.clip.held, ...outlines.map((outline) => ({ outline, later: null, still }))],
      },
    }));
  } catch (e) {
    tellError(e);
  }
}

/** Adds a stroke to a frame, and what it covers to the frames beside it. */
export async function mend(open: OpenSet, set: SetDetail, stroke: ClipStroke, frames: number) {
  try {
    const all = await api.carryStroke(set.id, { stroke, frames });
    await open.change(
      stroke.front ? `keep who is in front at frame ${stroke.frame + 1}` : `lay the patch at frame ${stroke.frame + 1}`,
      (now) => ({ clip: { ...now.clip, strokes: [...now.clip.strokes, ...all] } }),
    );
  } catch (e) {
    tellError(e);
  }
}

/** Shows the clip, at a frame. */
export function showClip(at?: number) {
  useView.getState().set({ clip: true, sheet: false, flicking: false, drawing: null });
  useTime.getState().set({ playing: false, ...(at == null ? {} : { at }) });
}
