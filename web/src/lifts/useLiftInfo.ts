// What a lift does: its border as it was found, what it brings along, in words.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, type Lift, type SetDetail } from "../api/client";

export function useLiftInfo(set: SetDetail, lift: Lift | undefined) {
  return useQuery({
    queryKey: ["lift", set.id, set.plate_key, lift && JSON.stringify({ ...lift, strength: 0, off: false })],
    queryFn: ({ signal }) => api.tryLift(set.id, lift as Lift, signal),
    enabled: lift != null && set.plate_key != null,
    placeholderData: keepPreviousData,
  }).data;
}
