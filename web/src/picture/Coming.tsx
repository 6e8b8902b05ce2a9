// That an act was heard, and that a view is on its way: said wherever it takes longer than a glance.
import { useIsMutating } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import type { SetDetail } from "../api/client";
import { viewTitle } from "./names";
import { tileName, type View } from "./views";

/** What the picture shows whole: its tiles' name. Apart from the page's state, which would draw all of the page. */
let shown = "";
const listeners = new Set<() => void>();

export function nowShown(name: string) {
  shown = name;
  listeners.forEach((told) => told());
}

const subscribe = (told: () => void) => {
  listeners.add(told);
  return () => void listeners.delete(told);
};

/** The view that is wanted while another one is still on the picture; nothing in the first moment. */
export function Coming({ set, view }: { set: SetDetail; view: View }) {
  const name = useSyncExternalStore(subscribe, () => shown);
  const acts = useIsMutating({ mutationKey: ["act", set.id] });
  const other = name !== "" && set.canvas && name.split("/").at(-1) !== tileName(view, set);
  const words = other
    ? `On its way: ${viewTitle(set, view)}`
    : acts > 0 && set.undo
      ? `${set.undo[0]?.toUpperCase()}${set.undo.slice(1)}`
      : null;
  return words ? (
    <div
      key={words}
      role="status"
      data-testid="coming"
      className="later pointer-events-none absolute bottom-2 left-2 z-30 bg-leaf px-2 py-0.5 text-sm"
    >
      {words} …
    </div>
  ) : null;
}
