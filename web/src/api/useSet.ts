// An open set: its state and the acts on it, each of which can be undone.
import { MutationObserver, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { tellError } from "../ui/Notices";
import { api, type Recipe, type SetDetail, type Spot } from "./client";
import type { View } from "../picture/views";
import { actAnswered } from "./events";

/** Milliseconds within which an act can go on with the last. */
const GOES_ON = 4000;

/** What comes with an act's answer. */
export interface Then {
  /** A view that the plate takes the place of, if it is still shown. */
  back?: View;
  /** Called when the picture shows what was done before the page is drawn by the answer; not when it cannot be that soon. */
  shown?: () => void;
}

/** The picture's part in an act, while it is there. */
export const looking: {
  /** Which tiles are looked at: they are combined first. */
  at: () => Spot[];
  /** Shows an answer's plate, then has the page drawn by it. */
  show: (set: SetDetail, then: Then, draw: () => void) => void;
  /** Has the page drawn by the last answer if it is not yet. */
  settle: () => void;
} = { at: () => [], show: drawn, settle: () => {} };

/** Where there is no picture, the page is drawn. */
export function drawn(_set: SetDetail, _then: Then, draw: () => void) {
  draw();
}

export function useSet(id: number) {
  const client = useQueryClient();
  const query = useQuery({ queryKey: ["set", id], queryFn: () => api.set(id) });
  const key = ["set", id];
  const own = useRef(0);
  const acts = ["act", id];
  /** The revision that an act follows from: what the page's own acts have led to, or what it has heard of since. */
  const following = () => Math.max(own.current, client.getQueryData<SetDetail>(key)?.revision ?? 0);
  /** Acts on the server, one after another in the order in which they were done; what it gives is there once the page is drawn by the answer, however. */
  const act = (ask: () => Promise<SetDetail>, then: Then = {}) =>
    new Promise<void>((done) => {
      const onSuccess = (set: SetDetail) => {
        actAnswered(id);
        own.current = set.revision;
        // What was decided meanwhile is still on its way.
        const waiting = client.isMutating({ mutationKey: acts }) > 1;
        looking.show(set, then, () => {
          client.setQueryData<SetDetail>(key, (now) =>
            waiting && now ? { ...set, recipe: now.recipe, undo: now.undo, redo: now.redo } : set,
          );
          void client.invalidateQueries({ queryKey: ["history", id] });
          done();
        });
      };
      const onError = (e: Error) => {
        tellError(e);
        void client.invalidateQueries({ queryKey: key });
        done();
      };
      // An observer that nobody listens to: the page is not drawn for an act's own states.
      void new MutationObserver(client, {
        mutationKey: acts,
        scope: { id: `set-${id}` },
        mutationFn: ask,
        onSuccess,
        onError,
      })
        .mutate()
        .catch(() => {});
    });
  const last = useRef({ label: "", at: -GOES_ON });
  /** An act begins: what was asked before it would put an older state on the page. */
  const begin = (label = "") => {
    looking.settle();
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
     * soon after one with the same words is one state with it. What it gives is there once the page is drawn by the answer, however.
     */
    change: (
      label: string,
      part: Partial<Recipe> | ((now: Recipe) => Partial<Recipe>),
      { joins = false, ...then }: { joins?: boolean } & Then = {},
    ): Promise<void> => {
      const goes_on = begin(label) && joins;
      const now = client.getQueryData<SetDetail>(key);
      if (!now) return Promise.resolve();
      // At once on the page, so that the next act starts from here.
      const changed = typeof part === "function" ? part(now.recipe) : part;
      const recipe = { ...now.recipe, ...changed };
      client.setQueryData<SetDetail>(key, { ...now, recipe, undo: label, redo: null });
      return act(() => api.change(id, following(), { label, recipe: changed, goes_on, looking: looking.at() }), then);
    },
    undo: () => {
      begin();
      void act(() => api.undo(id, following()));
    },
    redo: () => {
      begin();
      void act(() => api.redo(id, following()));
    },
    goTo: (seq: number) => {
      begin();
      void act(() => api.goTo(id, following(), seq));
    },
  };
}

export type OpenSet = ReturnType<typeof useSet>;
