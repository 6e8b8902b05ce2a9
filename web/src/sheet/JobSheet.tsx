// The job from top to bottom; each line carries its fact, the open one unfolds in place.
import { ChevronLeft, PanelLeftClose, PanelLeftOpen, Redo2, Undo2 } from "lucide-react";
import { Accordion } from "radix-ui";
import { useState } from "react";
import type { SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { go } from "../ui/path";
import { lines, type Line } from "./lines";
import { RunPanel } from "./RunPanel";

export function JobSheet({ open, set }: { open: OpenSet; set: SetDetail }) {
  const [folded, setFolded] = useState(false);
  const [line, setLine] = useState("frames");
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
        <button
          aria-label={set.undo ? `Undo: ${set.undo}` : "Nothing to undo"}
          title={set.undo ? `Undo: ${set.undo}` : undefined}
          className="p-1 hover:bg-leaf disabled:opacity-35"
          disabled={!set.undo}
          onClick={open.undo}
        >
          <Undo2 size={17} />
        </button>
        <button
          aria-label={set.redo ? `Redo: ${set.redo}` : "Nothing to redo"}
          title={set.redo ? `Redo: ${set.redo}` : undefined}
          className="p-1 hover:bg-leaf disabled:opacity-35"
          disabled={!set.redo}
          onClick={open.redo}
        >
          <Redo2 size={17} />
        </button>
        <button aria-label="Fold the job sheet" className="p-1 hover:bg-leaf" onClick={() => setFolded(true)}>
          <PanelLeftClose size={17} />
        </button>
      </header>
      <RunPanel run={set.run} set={set.id} draft={set.draft && set.recipe.method === "consensus"} />
      <Accordion.Root
        type="single"
        collapsible
        value={line}
        onValueChange={setLine}
        className="flex min-h-0 grow flex-col overflow-y-auto"
      >
        {lines
          .filter((one) => one.when?.(set) ?? true)
          .map((one) => (
            <SheetLine key={one.name} line={one} open={open} set={set} />
          ))}
      </Accordion.Root>
    </aside>
  );
}

function SheetLine({ line: { name, title, useFact, Body }, open, set }: { line: Line; open: OpenSet; set: SetDetail }) {
  const fact = useFact(set);
  return (
    <Accordion.Item value={name} className="border-t border-rule last:border-b">
      <Accordion.Header>
        <Accordion.Trigger
          className="group w-full px-3 py-2 text-left hover:bg-leaf data-[state=open]:bg-leaf"
          data-line={name}
        >
          <span className="block font-semibold">{title}</span>
          <span
            data-testid={`fact-${name}`}
            className={`block text-[14px] ${fact.open ? "text-persimmon" : "text-faint"}`}
          >
            {fact.open ? "▸ " : ""}
            {fact.text}
          </span>
        </Accordion.Trigger>
      </Accordion.Header>
      <Accordion.Content className="px-3 pt-1 pb-3">
        <Body open={open} set={set} />
      </Accordion.Content>
    </Accordion.Item>
  );
}
