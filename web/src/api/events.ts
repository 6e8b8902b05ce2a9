// Keeps what is on the screen in step with the server.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { tell } from "../ui/Notices";
import type { Run, ServerEvent, SetDetail, SetSummary } from "./client";

/** Milliseconds that changes of a set are gathered for. */
const MOMENT = 60;

/** The same after an act of this page, whose answer has brought the state: what is asked again must not delay the picture. */
const AFTER = 800;

/** When this page's last act on a set was answered. */
const answered = new Map<number, number>();

export const actAnswered = (set: number) => void answered.set(set, performance.now());

export function useEvents() {
  const client = useQueryClient();
  useEffect(() => {
    const source = new EventSource("/api/events");
    const all = () => void client.invalidateQueries();
    // Frames come in a dozen at a time: asked once for all that changed within a moment.
    const waiting = new Set<number>();
    const later = (id: number) => {
      if (waiting.has(id)) return;
      waiting.add(id);
      const ask = () => {
        const rested = performance.now() - (answered.get(id) ?? -AFTER);
        // A draft is waited for: what comes is the plate itself.
        const draft = client.getQueryData<SetDetail>(["set", id])?.draft;
        if (rested < AFTER && !draft) return void setTimeout(ask, AFTER - rested);
        waiting.delete(id);
        // While an act of this page is on its way, its answer brings the state.
        if (!client.isMutating({ mutationKey: ["act", id] })) void client.invalidateQueries({ queryKey: ["set", id] });
      };
      setTimeout(ask, MOMENT);
    };
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
      if (event.type === "set") later(event.id);
      if (event.type === "note") tell(event.text);
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

const newer = <T extends { run?: Run | null }>(old: T, run: Run): T =>
  !old.run || old.run.id <= run.id ? { ...old, run } : old;
