// Keeps what is on the screen in step with the server.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type { Run, ServerEvent, SetDetail, SetSummary } from "./client";

export function useEvents() {
  const client = useQueryClient();
  useEffect(() => {
    const source = new EventSource("/api/events");
    const all = () => void client.invalidateQueries();
    let lost = false;
    source.onerror = () => (lost = true);
    source.onopen = () => {
      // After a break anything may have happened.
      if (lost) all();
      lost = false;
    };
    source.onmessage = (message: MessageEvent<string>) => {
      const event = JSON.parse(message.data) as ServerEvent;
      if (event.type === "sets") void client.invalidateQueries({ queryKey: ["sets"] });
      // While an act of this page is on its way, its answer brings the state.
      if (event.type === "set" && !client.isMutating({ mutationKey: ["act", event.id] })) void client.invalidateQueries({ queryKey: ["set", event.id] });
      if (event.type === "run") {
        const run: Run = event.run;
        client.setQueryData<SetDetail>(["set", run.set], (old) => old && newer(old, run));
        client.setQueryData<SetSummary[]>(["sets"], (old) => old?.map((s) => (s.id === run.set ? newer(s, run) : s)));
        client.setQueryData(["run", run.id], run);
      }
    };
    return () => source.close();
  }, [client]);
}

const newer = <T extends { run?: Run | null }>(old: T, run: Run): T => (!old.run || old.run.id <= run.id ? { ...old, run } : old);
