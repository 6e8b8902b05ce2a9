// Short words about what happened, with a way back where there is one.
import { X } from "lucide-react";
import { create } from "zustand";

interface Notice {
  id: number;
  text: string;
  failed: boolean;
  undo?: () => void;
}

interface State {
  notices: Notice[];
  tell: (text: string, options?: { failed?: boolean; undo?: () => void }) => void;
  drop: (id: number) => void;
}

let next = 1;

export const useNotices = create<State>((set, get) => ({
  notices: [],
  tell: (text, options) => {
    const id = next++;
    set({ notices: [...get().notices.slice(-2), { id, text, failed: options?.failed ?? false, undo: options?.undo }] });
    if (!options?.failed) setTimeout(() => get().drop(id), 12_000);
  },
  drop: (id) => set({ notices: get().notices.filter((n) => n.id !== id) }),
}));

export const tell = (...args: Parameters<State["tell"]>) => useNotices.getState().tell(...args);
export const tellError = (e: unknown) => tell(e instanceof Error ? e.message : String(e), { failed: true });

export function Notices() {
  const { notices, drop } = useNotices();
  return (
    <div role="status" className="fixed bottom-4 left-4 z-50 flex max-w-md flex-col gap-2">
      {notices.map((n) => (
        <div
          key={n.id}
          className={`flex items-start gap-3 border-l-4 bg-leaf px-3 py-2 shadow ${n.failed ? "border-persimmon" : "border-verdigris"}`}
        >
          <span className="grow">{n.text}</span>
          {n.undo && (
            <button
              className="font-semibold underline"
              onClick={() => {
                n.undo?.();
                drop(n.id);
              }}
            >
              Undo
            </button>
          )}
          <button aria-label="Close this message" onClick={() => drop(n.id)}>
            <X size={16} />
          </button>
        </div>
      ))}
    </div>
  );
}
