// The server's interface, with types generated from its description.
import { tellError } from "../ui/Notices";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type SetSummary = Schemas["SetSummary"];
export type SetDetail = Schemas["SetDetail"];
export type TileNames = Schemas["TileNames"];
export type Spot = Schemas["Spot"];
export type Frame = Schemas["FrameInfo"];
export type Recipe = Schemas["Recipe"];
export type Sample = Schemas["Sample"];
export type Run = Schemas["RunInfo"];
export type Look = Schemas["Look"];
export type Doubt = Schemas["DoubtInfo"];
export type Agreement = Schemas["AgreementFact"];
export type ServerEvent = Schemas["Event"];
export type ExportRequest = Schemas["ExportRequest"];
export type Develop = Schemas["Develop"];
export type Hand = Schemas["Hand"];
export type Area = Schemas["Area"];
export type Point = Schemas["Point"];
export type Lift = Schemas["Lift"];
export type LiftInfo = Schemas["LiftInfo"];
export type Proposal = Schemas["Proposal"];
export type Purpose = Schemas["Purpose"];
export type Seam = Schemas["SeamInfo"];
export type State = Schemas["StateInfo"];
export type Moving = Schemas["MovingInfo"];
export type Extent = Schemas["ExtentInfo"];
export type Fit = Schemas["FitInfo"];
export type Folder = Schemas["FolderInfo"];
export type Relinked = Schemas["RelinkInfo"];

async function ask<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  let response: Response;
  try {
    response = await fetch(`/api${path}`, {
      method,
      signal,
      headers: body === undefined ? undefined : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch (e) {
    if (signal?.aborted) throw e;
    throw new Error("Evanu's server does not answer. Start it again with ./start; nothing is lost.", { cause: e });
  }
  if (!response.ok) {
    const problem = (await response.json().catch(() => null)) as { detail?: string } | null;
    throw new Error(problem?.detail ?? `The server answered ${response.status}.`);
  }
  return (response.status === 204 || response.status === 202 && response.headers.get("content-length") === "0"
    ? undefined
    : await response.json()) as T;
}

export const api = {
  sets: () => ask<SetSummary[]>("GET", "/sets"),
  create: (name: string, sort = false) => ask<{ id: number }>("POST", "/sets", { name, sort }),
  samples: () => ask<Sample[]>("GET", "/samples"),
  sample: (name: string) => ask<{ id: number }>("POST", `/samples/${name}`),
  folder: (path: string | null) => ask<Folder>("GET", `/folders${path ? `?path=${encodeURIComponent(path)}` : ""}`),
  addFolder: (id: number, path: string, copy: boolean) => ask<undefined>("POST", `/sets/${id}/folder`, { path, copy }),
  relink: (id: number, path: string) => ask<Relinked>("POST", `/sets/${id}/relink`, { path }),
  move: (id: number, frames: number[], to: number | null) => ask<{ id: number }>("POST", `/sets/${id}/move`, { frames, to }),
  fit: (id: number, index: number) => ask<Fit>("GET", `/sets/${id}/fits/${index}`),
  set: (id: number) => ask<SetDetail>("GET", `/sets/${id}`),
  rename: (id: number, name: string) => ask<undefined>("PUT", `/sets/${id}/name`, { name }),
  remove: (id: number) => ask<undefined>("DELETE", `/sets/${id}`),
  restore: (id: number) => ask<undefined>("POST", `/sets/${id}/restore`),
  duplicate: (id: number) => ask<{ id: number }>("POST", `/sets/${id}/duplicate`),
  change: (id: number, change: { label: string; recipe: Recipe; goes_on: boolean; looking: Spot[] }) => ask<SetDetail>("PUT", `/sets/${id}/recipe`, change),
  undo: (id: number) => ask<SetDetail>("POST", `/sets/${id}/undo`),
  redo: (id: number) => ask<SetDetail>("POST", `/sets/${id}/redo`),
  prepare: (id: number) => ask<undefined>("POST", `/sets/${id}/prepare`),
  dismiss: (id: number, frame: number) => ask<undefined>("DELETE", `/sets/${id}/frames/${frame}`),
  agreement: (id: number) => ask<Agreement>("GET", `/sets/${id}/agreement`),
  moving: (id: number) => ask<Moving[]>("GET", `/sets/${id}/moving`),
  glare: (id: number, lift: number) => ask<Schemas["GlareInfo"]>("GET", `/sets/${id}/lifts/${lift}/glare`),
  tryLift: (id: number, lift: Lift, signal?: AbortSignal) => ask<LiftInfo>("POST", `/sets/${id}/lifts/try`, lift, signal),
  placeLift: (id: number, lift: Lift) => ask<Schemas["Place"]>("POST", `/sets/${id}/lifts/place`, lift),
  proposals: (id: number, wanted: Schemas["Wanted"]) => ask<Proposal[]>("POST", `/sets/${id}/lifts/proposals`, wanted),
  seams: (id: number, purpose: Purpose) => ask<Seam[]>("GET", `/sets/${id}/seams/${purpose}`),
  history: (id: number) => ask<State[]>("GET", `/sets/${id}/history`),
  goTo: (id: number, seq: number) => ask<SetDetail>("POST", `/sets/${id}/history/${seq}`),
  stateKey: (id: number, seq: number) => ask<Schemas["StateKey"]>("GET", `/sets/${id}/history/${seq}`),
  doubts: (id: number) => ask<Doubt[]>("GET", `/sets/${id}/doubts`),
  look: (id: number, query: string, signal: AbortSignal) => ask<Look>("GET", `/sets/${id}/look?${query}`, undefined, signal),
  extent: (id: number, x: number, y: number, frame: number) => ask<Extent>("GET", `/sets/${id}/extent?x=${x}&y=${y}&frame=${frame}`),
  export: (id: number, request: ExportRequest) => ask<{ id: number }>("POST", `/sets/${id}/exports`, request),
  run: (id: number) => ask<Run>("GET", `/runs/${id}`),
  cancel: (id: number) => ask<undefined>("DELETE", `/runs/${id}`),
};

/** A picture about where pixels come from: `origin`, `alone` or `few`. */
export const evidence = (set: number, key: string, what: "origin" | "alone" | "few") => `/api/sets/${set}/evidence/${what}.png?${key}`;

/** A small picture of a state; one that was gone on with is another picture. */
export const statePicture = (set: number, state: State, side: number) => `/api/sets/${set}/history/${state.seq}/picture?side=${side}&made=${state.made ?? 0}`;

/** The plate where a lift lies, as the lift's state has it. */
export const liftPicture = (set: number, key: string, lift: number) => `/api/sets/${set}/lifts/${lift}/picture?${key}`;

/** A frame as shot and developed; the address stays the same as long as the picture does. */
export const thumbnail = (set: SetDetail, frame: number, side: number) =>
  `/api/sets/${set.id}/frames/${frame}/thumbnail?side=${side}&v=${encodeURIComponent(Object.values(set.recipe.develop ?? {}).join("_"))}`;

/** Sends files, telling the share that has gone; then begins the work on them. */
export function upload(set: number, files: File[], told: (share: number) => void): Promise<void> {
  return new Promise((done, failed) => {
    const form = new FormData();
    files.forEach((f) => form.append("frames", f, f.name));
    const request = new XMLHttpRequest();
    request.open("POST", `/api/sets/${set}/frames`);
    request.upload.onprogress = (e) => told(e.lengthComputable ? e.loaded / e.total : 0);
    request.onload = () => {
      if (request.status < 300) return done(api.prepare(set));
      let detail = `The server answered ${request.status}.`;
      try {
        detail = (JSON.parse(request.responseText) as { detail: string }).detail;
      } catch {
        // no problem details: the status must do
      }
      failed(new Error(detail));
    };
    request.onerror = () => failed(new Error("The upload was cut off. Files that had arrived are kept; add the others again."));
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
