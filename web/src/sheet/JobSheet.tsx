// The job from top to bottom; each line carries its fact, the open one unfolds in place.
import { ChevronLeft, PanelLeftClose, PanelLeftOpen, Redo2, Undo2 } from "lucide-react";
import { Accordion } from "radix-ui";
import { useState, type ReactNode } from "react";
import type { SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { go } from "../ui/path";
import { AlignLine, alignFact } from "./AlignLine";
import { CombineLine, useCombineFact } from "./CombineLine";
import { DoubtsLine, doubtsFact, useDoubts } from "./DoubtsLine";
import { ExportLine, exportFact } from "./ExportLine";
import { HistoryLine, historyFact } from "./HistoryLine";
import { FramesLine, framesFact } from "./FramesLine";
import { LiftsLine, liftsFact } from "./LiftsLine";
import { RunPanel } from "./RunPanel";

export interface Fact {
  text: string;
  /** Something still needs a decision. */
  open?: boolean;
}

export function JobSheet({ open, set }: { open: OpenSet; set: SetDetail }) {
  const [folded, setFolded] = useState(false);
  const [line, setLine] = useState("frames");
  const combine = useCombineFact(set);
  const doubts = useDoubts(set);
  if (folded)
    return (
      <aside className="w-10 shrink-0 border-r border-rule bg-sheet pt-2 text-center">
        <button aria-label="Unfold the job sheet" className="p-1 hover:bg-leaf" onClick={() => setFolded(false)}>
          <PanelLeftOpen size={18} />
        </button>
      </aside>
    );
  return (
    <aside aria-label="Job sheet" className="relative flex w-[304px] shrink-0 flex-col border-r border-rule bg-sheet">
      <header className="flex items-center gap-1 px-2 pt-2 pb-1">
        <button aria-label="All sets" className="p-1 hover:bg-leaf" onClick={() => go("/")}>
          <ChevronLeft size={18} />
        </button>
        <h1 className="grow truncate font-semibold" title={set.name}>
          {set.name}
        </h1>
        <button aria-label={set.undo ? `Undo: ${set.undo}` : "Nothing to undo"} title={set.undo ? `Undo: ${set.undo}` : undefined} className="p-1 hover:bg-leaf disabled:opacity-35" disabled={!set.undo} onClick={open.undo}>
          <Undo2 size={17} />
        </button>
        <button aria-label={set.redo ? `Redo: ${set.redo}` : "Nothing to redo"} title={set.redo ? `Redo: ${set.redo}` : undefined} className="p-1 hover:bg-leaf disabled:opacity-35" disabled={!set.redo} onClick={open.redo}>
          <Redo2 size={17} />
        </button>
        <button aria-label="Fold the job sheet" className="p-1 hover:bg-leaf" onClick={() => setFolded(true)}>
          <PanelLeftClose size={17} />
        </button>
      </header>
      <RunPanel run={set.run} set={set.id} draft={set.draft && set.recipe.method === "consensus"} />
      <Accordion.Root type="single" collapsible value={line} onValueChange={setLine} className="flex min-h-0 grow flex-col overflow-y-auto">
        <Line value="frames" title="Frames" fact={framesFact(set)}>
          <FramesLine open={open} set={set} />
        </Line>
        <Line value="align" title="Align" fact={alignFact(set)}>
          <AlignLine open={open} set={set} />
        </Line>
        <Line value="combine" title="Combine" fact={combine}>
          <CombineLine open={open} set={set} />
        </Line>
        <Line value="doubts" title="Doubts" fact={doubtsFact(set, doubts)}>
          <DoubtsLine open={open} set={set} />
        </Line>
        <Line value="lifts" title="Lifts" fact={liftsFact(set)}>
          <LiftsLine open={open} set={set} />
        </Line>
        <Line value="history" title="History" fact={historyFact(set)}>
          <HistoryLine open={open} set={set} />
        </Line>
        <Line value="export" title="Export" fact={exportFact(set)}>
          <ExportLine set={set} />
        </Line>
      </Accordion.Root>
    </aside>
  );
}

function Line(props: { value: string; title: string; fact: Fact; children: ReactNode }) {
  return (
    <Accordion.Item value={props.value} className="border-t border-rule last:border-b">
      <Accordion.Header>
        <Accordion.Trigger className="group w-full px-3 py-2 text-left hover:bg-leaf data-[state=open]:bg-leaf" data-line={props.value}>
          <span className="block font-semibold">{props.title}</span>
          <span data-testid={`fact-${props.value}`} className={`block text-[14px] ${props.fact.open ? "text-persimmon" : "text-faint"}`}>
            {props.fact.open ? "▸ " : ""}
            {props.fact.text}
          </span>
        </Accordion.Trigger>
      </Accordion.Header>
      <Accordion.Content className="px-3 pt-1 pb-3">{props.children}</Accordion.Content>
    </Accordion.Item>
  );
}
