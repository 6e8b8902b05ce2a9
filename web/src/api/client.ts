// The server's interface, called by its paths with types generated from its description.
import createClient, { type FetchResponse } from "openapi-fetch";
import { tellError } from "../ui/Notices";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type SetSummary = Schemas["SetSummary"];
export type SetDetail = Schemas["SetDetail"];
export type TileNames = Schemas["TileNames"];
export type Spot = Schemas["Spot"];
export type Frame = Schemas["FrameInfo"];
export type Recipe = Schemas["Recipe_FrameId"];
export type Sample = Schemas["Sample"];
export type Run = Schemas["RunInfo"];
export type LookThrough = Schemas["LookThrough"];
export type Doubt = Schemas["DoubtInfo"];
export type Agreement = Schemas["AgreementFact"];
export type ServerEvent = Schemas["Event"];
export type ExportRequest = Schemas["ExportRequest"];
export type Develop = Schemas["Develop"];
export type ManualAlignment = Schemas["ManualAlignment_FrameId"];
export type Area = Schemas["Area_FrameId"];
export type Point = Schemas["Point"];
export type Patch = Schemas["Patch_FrameId"];
export type PatchTransform = Schemas["PatchTransform"];
export type PatchInfo = Schemas["PatchInfo"];
export type Proposal = Schemas["Proposal"];
export type Touch = Schemas["Touch_FrameId"];
export type TouchTry = Schemas["TouchTry"];
export type Variant = Schemas["VariantInfo"];
export type Fault = Schemas["FaultInfo"]["fault"];
export type Purpose = Schemas["Purpose"];
export type Seam = Schemas["SeamInfo"];
export type State = Schemas["StateInfo"];
export type Moving = Schemas["MovingInfo"];
export type Extent = Schemas["ExtentInfo"];
export type Fit = Schemas["FitInfo"];
export type Folder = Schemas["FolderInfo"];
export type ClipState = Schemas["ClipState"];
export type ClipStroke = Schemas["ClipStroke"];
export type ClipFile = Schemas["ClipFile"];
export type Relinked = Schemas["RelinkInfo"];

const http = createClient<paths>({ baseUrl: typeof location === "undefined" ? "http://localhost" : location.origin });

/** What the server refuses, in its words. */
export class Refused extends Error {
  constructor(
    words: string,
    readonly status: number,
  ) {
    super(words);
  }
}

/** What an answer holds; whatever goes wrong is an error with words. */
async function answered<T extends Record<string | number, unknown>, O, M extends `${string}/${string}`>(
  asked: Promise<FetchResponse<T, O, M>>,
) {
  let answer;
  try {
    answer = await asked;
  } catch (e) {
    if (e instanceof DOMException && e.name === "AbortError") throw e;
    throw new Error("Evanu's server does not answer. Start it again with ./start; nothing is lost.", { cause: e });
  }
  const { response, data, error } = answer;
  if (!response.ok)
    throw new Refused(
      (error as { detail?: string } | undefined)?.detail ?? `The server answered ${response.status}.`,
      response.status,
    );
  return data as NonNullable<typeof data>;
}

/** The state that an act follows from. */
const following = (revision: number) => ({ "If-Match": `"${revision}"` });

/** A change of a recipe: the fields that change, and the words undo will use. */
export interface Change {
  label: string;
  recipe: Partial<Recipe>;
  goes_on: boolean;
  looking: Spot[];
}

const of = (set: number) => ({ params: { path: { set } } });

export const api = {
  sets: () => answered(http.GET("/api/sets")),
  create: (name: string, sort = false) => answered(http.POST("/api/sets", { body: { name, sort } })),
  samples: () => answered(http.GET("/api/samples")),
  sample: (name: string) => answered(http.POST("/api/samples/{name}", { params: { path: { name } } })),
  folder: (path: string | null) =>
    answered(http.GET("/api/folders", { params: { query: { path: path ?? undefined } } })),
  addFolder: (set: number, path: string, copy: boolean) =>
    answered(http.POST("/api/sets/{set}/folder", { ...of(set), body: { path, copy } })),
  relink: (set: number, path: string) =>
    answered(http.POST("/api/sets/{set}/relink", { ...of(set), body: { path, copy: false } })),
  move: (set: number, frames: number[], to: number | null) =>
    answered(http.POST("/api/sets/{set}/move", { ...of(set), body: { frames, to } })),
  fit: (set: number, frame: number) =>
    answered(http.GET("/api/sets/{set}/fits/{frame}", { params: { path: { set, frame } } })),
  set: (set: number) => answered(http.GET("/api/sets/{set}", of(set))),
  rename: (set: number, name: string) =>
    answered(http.PUT("/api/sets/{set}/name", { ...of(set), body: { name, sort: false } })),
  remove: (set: number) => answered(http.DELETE("/api/sets/{set}", of(set))),
  restore: (set: number) => answered(http.POST("/api/sets/{set}/restore", of(set))),
  duplicate: (set: number) => answered(http.POST("/api/sets/{set}/duplicate", of(set))),
  change: (set: number, revision: number, change: Change) =>
    answered(
      http.PATCH("/api/sets/{set}/recipe", { params: { path: { set }, header: following(revision) }, body: change }),
    ),
  undo: (set: number, revision: number) =>
    answered(http.POST("/api/sets/{set}/undo", { params: { path: { set }, header: following(revision) } })),
  redo: (set: number, revision: number) =>
    answered(http.POST("/api/sets/{set}/redo", { params: { path: { set }, header: following(revision) } })),
  goTo: (set: number, revision: number, seq: number) =>
    answered(
      http.POST("/api/sets/{set}/history/{seq}", { params: { path: { set, seq }, header: following(revision) } }),
    ),
  prepare: (set: number) => answered(http.POST("/api/sets/{set}/prepare", of(set))),
  dismiss: (set: number, frame: number) =>
    answered(http.DELETE("/api/sets/{set}/frames/{frame}", { params: { path: { set, frame } } })),
  readAgain: (set: number, frame: number) =>
    answered(http.POST("/api/sets/{set}/frames/{frame}/again", { params: { path: { set, frame } } })),
  renew: (set: number, frame: number) =>
    answered(http.POST("/api/sets/{set}/frames/{frame}/renew", { params: { path: { set, frame } } })),
  agreement: (set: number) => answered(http.GET("/api/sets/{set}/agreement", of(set))),
  moving: (set: number) => answered(http.GET("/api/sets/{set}/moving", of(set))),
  glare: (set: number, patch: number) =>
    answered(http.GET("/api/sets/{set}/patches/{patch}/glare", { params: { path: { set, patch } } })),
  tryPatch: (set: number, patch: Patch, signal?: AbortSignal) =>
    answered(http.POST("/api/sets/{set}/patches/try", { ...of(set), body: patch, signal })),
  placePatch: (set: number, patch: Patch) =>
    answered(http.POST("/api/sets/{set}/patches/place", { ...of(set), body: patch })),
  proposals: (set: number, wanted: Schemas["ProposalRequest"]) =>
    answered(http.POST("/api/sets/{set}/patches/proposals", { ...of(set), body: wanted })),
  seams: (set: number, purpose: Purpose) =>
    answered(http.GET("/api/sets/{set}/seams/{purpose}", { params: { path: { set, purpose } } })),
  tryTouch: (set: number, wanted: TouchTry) =>
    answered(http.POST("/api/sets/{set}/touches/try", { ...of(set), body: wanted })),
  tried: (set: number) => answered(http.GET("/api/sets/{set}/touches/try", of(set))),
  stopTrying: (set: number) => answered(http.DELETE("/api/sets/{set}/touches/try", of(set))),
  missing: (set: number) => answered(http.GET("/api/sets/{set}/touches/missing", of(set))),
  thing: (set: number, x: number, y: number) =>
    answered(http.GET("/api/sets/{set}/touches/thing", { params: { path: { set }, query: { x, y } } })),
  touchesSeen: (set: number) => answered(http.GET("/api/sets/{set}/touches/seen", of(set))),
  touchPlane: (set: number, wanted: TouchTry) =>
    answered(http.POST("/api/sets/{set}/touches/plane", { ...of(set), body: wanted })),
  touchSource: (set: number, wanted: TouchTry) =>
    answered(http.POST("/api/sets/{set}/touches/source", { ...of(set), body: wanted })),
  history: (set: number) => answered(http.GET("/api/sets/{set}/history", of(set))),
  stateKey: (set: number, seq: number) =>
    answered(http.GET("/api/sets/{set}/history/{seq}", { params: { path: { set, seq } } })),
  doubts: (set: number) => answered(http.GET("/api/sets/{set}/doubts", of(set))),
  look: (set: number, query: paths["/api/sets/{set}/look"]["get"]["parameters"]["query"], signal: AbortSignal) =>
    answered(http.GET("/api/sets/{set}/look", { params: { path: { set }, query }, signal })),
  extent: (set: number, x: number, y: number, frame: number) =>
    answered(http.GET("/api/sets/{set}/extent", { params: { path: { set }, query: { x, y, frame } } })),
  clip: (set: number) => answered(http.GET("/api/sets/{set}/clip", of(set))),
  layClip: (set: number) => answered(http.POST("/api/sets/{set}/clip/lay", of(set))),
  carryStroke: (set: number, wanted: Schemas["CarryRequest"]) =>
    answered(http.POST("/api/sets/{set}/clip/strokes", { ...of(set), body: wanted })),
  returnStill: (set: number, file: File) =>
    answered(
      http.POST("/api/sets/{set}/clip/stills", {
        params: { path: { set }, query: { name: file.name } },
        body: file as unknown as number[],
        bodySerializer: (body) => body as unknown as Blob,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  exportClip: (set: number, file: ClipFile) =>
    answered(http.POST("/api/sets/{set}/clip/exports", { ...of(set), body: { file } })),
  export: (set: number, request: ExportRequest) =>
    answered(http.POST("/api/sets/{set}/exports", { ...of(set), body: request })),
  run: (run: number) => answered(http.GET("/api/runs/{run}", { params: { path: { run } } })),
  cancel: (run: number) => answered(http.DELETE("/api/runs/{run}", { params: { path: { run } } })),
};

/** A picture about where pixels come from. */
export const evidence = (set: number, key: string, what: "origin" | "alone" | "few" | "invented") =>
  `/api/sets/${set}/evidence/${what}.png?${key}`;

/** A small picture of a state; one that was gone on with is another picture. */
export const statePicture = (set: number, state: State, side: number) =>
  `/api/sets/${set}/history/${state.seq}/picture?side=${side}&made=${state.made ?? 0}`;

/** The plate where a lift lies, as the lift's state has it. */
export const patchPicture = (set: number, key: string, patch: number) =>
  `/api/sets/${set}/patches/${patch}/picture?${key}`;

/** The plate where a touch lies. */
export const touchPicture = (set: number, key: string, touch: number) =>
  `/api/sets/${set}/touches/${touch}/picture?${key}`;

/** Where the plate is made up, white, of its size. */
export const inventedMask = (set: number, key: string) => `/api/sets/${set}/invented.png?${key}`;

/** A frame as shot and developed; the address stays the same as long as the picture does. */
export const thumbnail = (set: SetDetail, frame: number, side: number) =>
  `/api/sets/${set.id}/frames/${frame}/thumbnail?side=${side}&v=${encodeURIComponent(Object.values(set.recipe.develop).join("_"))}`;

/** Sends files, telling the share that has gone; then begins the work on them. */
export function upload(set: number, files: File[], told: (share: number) => void): Promise<void> {
  return new Promise((done, failed) => {
    const form = new FormData();
    files.forEach((f) => form.append("frames", f, f.name));
    const request = new XMLHttpRequest();
    request.open("POST", `/api/sets/${set}/frames`);
    request.upload.onprogress = (e) => told(e.lengthComputable ? e.loaded / e.total : 0);
    request.onload = () => {
      if (request.status < 300) return done(api.prepare(set).then(() => undefined));
      let detail = `The server answered ${request.status}.`;
      try {
        detail = (JSON.parse(request.responseText) as { detail: string }).detail;
      } catch {
        // no problem details: the status must do
      }
      failed(new Error(detail));
    };
    request.onerror = () =>
      failed(new Error("The upload was cut off. Files that had arrived are kept; add the others again."));
    request.send(form);
  });
}

/** Makes a shoot of files; its views are told apart once it is read. What goes wrong is told. */
export async function bringIn(files: File[], told: (share: number) => void): Promise<number | null> {
  if (!files.length) return null;
  try {
    const folder = files[0]?.webkitRelativePath.split("/")[0];
    const { id } = await api.create(folder || `Shoot of ${new Date().toLocaleDateString("en-GB")}`, true);
    await upload(id, files, told);
    return id;
  } catch (e) {
    tellError(e);
    return null;
  }
}
