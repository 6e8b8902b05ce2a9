// An open set: its state and the acts on it, each of which can be undone.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { tellError } from "../ui/Notices";
import { api, type Recipe, type SetDetail, type Spot } from "./client";
import { actAnswered } from "./events";

/** Milliseconds within which an act can go on with the last. */
const GOES_ON = 4000;

/** The picture's part in an act, while it is there: which tiles are looked at, which are combined first; and to ask for them as soon as an answer tells their names. */
export const looking: { at: () => Spot[]; expect: (set: SetDetail) => void } = { at: () => [], expect: () => {} };

export function useSet(id: number) {
  const client = useQueryClient();
  const query = useQuery({ queryKey: ["set", id], queryFn: () => api.set(id) });
  const key = ["set", id];
  const acts = ["act", id];
  const answered = (set: SetDetail, shown?: () => void) => {
    actAnswered(id);
    looking.expect(set);
    // What was decided meanwhile is still on its way.
    const waiting = client.isMutating({ mutationKey: acts }) > 1;
    client.setQueryData<SetDetail>(key, (now) => (waiting && now ? { ...set, recipe: now.recipe, undo: now.undo, redo: now.redo } : set));
    shown?.();
    void client.invalidateQueries({ queryKey: ["history", id] });
  };
  const settle = {
    // One after another, in the order in which they were done.
    mutationKey: acts,
    scope: { id: `set-${id}` },
    onError: (e: Error) => {
      tellError(e);
      void client.invalidateQueries({ queryKey: key });
    },
  };
  const step = { ...settle, onSuccess: (set: SetDetail) => answered(set) };
  const change = useMutation({
    mutationFn: ({ label, recipe, goes_on }: { label: string; recipe: Recipe; goes_on: boolean; shown?: () => void }) => api.change(id, { label, recipe, goes_on, looking: looking.at() }),
    onSuccess: (set, { shown }) => answered(set, shown),
    ...settle,
  });
  const undo = useMutation({ mutationFn: () => api.undo(id), ...step });
  const redo = useMutation({ mutationFn: () => api.redo(id), ...step });
  const goTo = useMutation({ mutationFn: (seq: number) => api.goTo(id, seq), ...step });
  const last = useRef({ label: "", at: -GOES_ON });
  /** An act begins: what was asked before it would put an older state on the page. */
  const begin = (label = "") => {
    void client.cancelQueries({ queryKey: key, exact: true });
    const at = performance.now();
    const goesOn = label === last.current.label && at - last.current.at < GOES_ON;
    last.current = { label, at };
    return goesOn;
  };
  return {
    query,
    set: query.data,
    /**
     * `part` may follow from what is in force, which the page may not have drawn yet: one nudge after another. With `joins`, an act
     * soon after one with the same words is one state with it. `shown` is called when the answer is put on the page, to be drawn with it.
     * What it gives is there once the act is answered, however.
     */
    change: (label: string, part: Partial<Recipe> | ((now: Recipe) => Partial<Recipe>), { joins = false, shown }: { joins?: boolean; shown?: () => void } = {}): Promise<void> => {
      const now = client.getQueryData<SetDetail>(key);
      if (!now) return Promise.resolve();
      const goes_on = begin(label) && joins;
      // At once on the page, so that the next act starts from here.
      const recipe = { ...now.recipe, ...(typeof part === "function" ? part(now.recipe) : part) };
      client.setQueryData<SetDetail>(key, { ...now, recipe, undo: label, redo: null });
      const nothing = () => {};
      return change.mutateAsync({ label, recipe, goes_on, shown }).then(nothing, nothing);
    },
    undo: () => {
      begin();
      undo.mutate();
    },
    redo: () => {
      begin();
      redo.mutate();
    },
    goTo: (seq: number) => {
      begin();
      goTo.mutate(seq);
    },
  };
}

export type OpenSet = ReturnType<typeof useSet>;
