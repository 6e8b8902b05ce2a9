// What a lift does: its border as it was found, what it brings along, in words; and where lifts can be seen.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, type Patch, type SetDetail } from "../api/client";
import { useView } from "../state/store";

export function usePatchInfo(set: SetDetail, lift: Patch | undefined) {
  return useQuery({
    queryKey: ["lift", set.id, set.plate_key, lift && JSON.stringify({ ...lift, strength: 0, disabled: false })],
    queryFn: ({ signal }) => api.tryPatch(set.id, lift as Patch, signal),
    enabled: lift != null && set.plate_key != null && !set.draft,
    placeholderData: keepPreviousData,
  }).data;
}

export function useSeams(set: SetDetail, wanted: boolean) {
  const { purpose } = useView();
  return useQuery({
    queryKey: ["seams", set.id, set.plate_key, purpose],
    queryFn: () => api.seams(set.id, purpose),
    enabled: wanted && set.plate_key != null && !set.draft && set.recipe.patches.length > 0,
    placeholderData: keepPreviousData,
  }).data;
}
