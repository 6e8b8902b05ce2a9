// An open set: its state and the acts on it, each of which can be undone.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { tellError } from "../ui/Notices";
import { api, type Recipe, type SetDetail } from "./client";

export function useSet(id: number) {
  const client = useQueryClient();
  const query = useQuery({ queryKey: ["set", id], queryFn: () => api.set(id) });
  const key = ["set", id];
  const acts = ["act", id];
  const settle = {
    // One after another, in the order in which they were done.
    mutationKey: acts,
    scope: { id: `set-${id}` },
    onSuccess: (set: SetDetail) => {
      // What was decided meanwhile is still on its way.
      const waiting = client.isMutating({ mutationKey: acts }) > 1;
      client.setQueryData<SetDetail>(key, (now) => (waiting && now ? { ...set, recipe: now.recipe } : set));
      void client.invalidateQueries({ queryKey: ["agreement", id] });
      void client.invalidateQueries({ queryKey: ["history", id] });
    },
    onError: (e: Error) => {
      tellError(e);
      void client.invalidateQueries({ queryKey: key });
    },
  };
  const change = useMutation({ mutationFn: ({ label, recipe, goesOn }: { label: string; recipe: Recipe; goesOn: boolean }) => api.change(id, label, recipe, goesOn), ...settle });
  const undo = useMutation({ mutationFn: () => api.undo(id), ...settle });
  const redo = useMutation({ mutationFn: () => api.redo(id), ...settle });
  const goTo = useMutation({ mutationFn: (seq: number) => api.goTo(id, seq), ...settle });
  return {
    query,
    set: query.data,
    /** `goesOn` joins it to the last act when that has the same words and is some seconds old. */
    change: (label: string, part: Partial<Recipe>, goesOn = false) => {
      const now = client.getQueryData<SetDetail>(key);
      if (!now) return;
      // At once on the page, so that the next act starts from here.
      const recipe = { ...now.recipe, ...part };
      client.setQueryData<SetDetail>(key, { ...now, recipe });
      change.mutate({ label, recipe, goesOn });
    },
    undo: () => undo.mutate(),
    redo: () => redo.mutate(),
    goTo: (seq: number) => goTo.mutate(seq),
  };
}

export type OpenSet = ReturnType<typeof useSet>;
