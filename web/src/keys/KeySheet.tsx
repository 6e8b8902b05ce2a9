// The sheet of keys that `?` opens, on every page.
import { Dialog } from "radix-ui";
import { useEffect } from "react";
import { useView } from "../state/store";
import { keyList } from "./useKeys";

export function KeySheet() {
  const { keysShown, set } = useView();
  useEffect(() => {
    const ask = (e: KeyboardEvent) =>
      e.key === "?" && !(e.target as HTMLElement).closest("input, textarea") && set({ keysShown: true });
    window.addEventListener("keydown", ask);
    return () => window.removeEventListener("keydown", ask);
  }, [set]);
  return (
    <Dialog.Root open={keysShown} onOpenChange={(open) => set({ keysShown: open })}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          className="fixed top-1/2 left-1/2 z-50 max-h-[94vh] w-[1060px] max-w-[94vw] -translate-x-1/2 -translate-y-1/2 overflow-y-auto bg-leaf px-6 py-5 shadow-lg"
          aria-describedby={undefined}
        >
          <Dialog.Title className="mb-2 text-lg font-semibold">Keys</Dialog.Title>
          <dl className="gap-x-8 lg:columns-2">
            {keyList.map(([key, does]) => (
              <div key={key} className="grid break-inside-avoid grid-cols-[110px_1fr] py-0.5 leading-tight">
                <dt className="num">{key}</dt>
                <dd>{does}</dd>
              </div>
            ))}
          </dl>
          <Dialog.Close className="mt-4 border border-faint/60 px-3 py-1">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
