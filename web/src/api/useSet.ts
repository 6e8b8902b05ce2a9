// An open set: its state and the acts on it, each of which can be undone.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { tellError } from "../ui/Notices";
import { api, type Recipe, type SetDetail } from "./client";

export function useSet(id: number) {
  const client = useQueryClient();
  const query = useQuery({ queryKey: ["set", id], queryFn: () => api.set(id) });
  const settle = {
    onSuccess: (set: SetDetail) => {
      client.setQueryData(["set", id], set);
      void client.invalidateQueries({ queryKey: ["agreement", id] });
    },
    onError: tellError,
  };
  const change = useMutation({
    mutationFn: ({ label, part }: { label: string; part: Partial<Recipe> }) => {
      const now = client.getQueryData<SetDetail>(["set", id]);
      if (!now) throw new Error("The set is still being loaded.");
      return api.change(id, label, { ...now.recipe, ...part });
    },
    ...settle,
  });
  const undo = useMutation({ mutationFn: () => api.undo(id), ...settle });
  const redo = useMutation({ mutationFn: () => api.redo(id), ...settle });
  return {
    query,
    set: query.data,
    change: (label: string, part: Partial<Recipe>) => change.mutate({ label, part }),
    undo: () => undo.mutate(),
    redo: () => redo.mutate(),
  };
}

export type OpenSet = ReturnType<typeof useSet>;
