// The lines of the job sheet from top to bottom. A line of its own is a file beside this one and an entry here.
import type { ReactNode } from "react";
import type { SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { AlignLine, alignFact } from "./AlignLine";
import { ClipLine, useClipFact } from "./ClipLine";
import { CombineLine, useCombineFact } from "./CombineLine";
import { DoubtsLine, useDoubtsFact } from "./DoubtsLine";
import { ExportLine, exportFact } from "./ExportLine";
import type { Fact } from "./fact";
import { FramesLine, framesFact } from "./FramesLine";
import { HistoryLine, historyFact } from "./HistoryLine";
import { PatchesLine, patchesFact } from "./PatchesLine";
import { RetouchLine, retouchFact } from "./RetouchLine";

export interface Line {
  name: string;
  title: string;
  /** Whether a set has it; all do without. */
  when?: (set: SetDetail) => boolean;
  /** Called as a hook. */
  useFact: (set: SetDetail) => Fact;
  Body: (props: { open: OpenSet; set: SetDetail }) => ReactNode;
}

export const lines: Line[] = [
  { name: "frames", title: "Frames", useFact: framesFact, Body: FramesLine },
  { name: "align", title: "Align", useFact: alignFact, Body: AlignLine },
  { name: "combine", title: "Combine", useFact: useCombineFact, Body: CombineLine },
  { name: "doubts", title: "Doubts", useFact: useDoubtsFact, Body: DoubtsLine },
  { name: "lifts", title: "Lifts", useFact: patchesFact, Body: PatchesLine },
  { name: "retouch", title: "Retouch", useFact: retouchFact, Body: RetouchLine },
  { name: "clip", title: "Clip", when: (set) => set.clip, useFact: useClipFact, Body: ClipLine },
  { name: "history", title: "History", useFact: historyFact, Body: HistoryLine },
  { name: "export", title: "Export", useFact: exportFact, Body: ExportLine },
];
