// Choosing a folder of this computer, for bringing in without copying and for finding lost originals.
import { useQuery } from "@tanstack/react-query";
import { CornerLeftUp, Folder } from "lucide-react";
import { Dialog } from "radix-ui";
import { useState, type ReactNode } from "react";
import { api } from "../api/client";
import { Button } from "./controls";
import { plural } from "./words";

interface Props {
  open: boolean;
  close: () => void;
  title: string;
  /** What the chosen folder is for, beside the button that takes it. */
  act: (path: string, pictures: number) => ReactNode;
}

export function FolderDialog({ open, close, title, act }: Props) {
  const [path, setPath] = useState<string | null>(null);
  const [typed, setTyped] = useState<string | null>(null);
  const here = useQuery({ queryKey: ["folder", path], queryFn: () => api.folder(path), enabled: open, retry: false });
  const folder = here.data;
  const enter = (to: string) => {
    setTyped(null);
    setPath(to);
  };
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          className="fixed top-1/2 left-1/2 z-50 flex max-h-[86vh] w-[600px] max-w-[94vw] -translate-x-1/2 -translate-y-1/2 flex-col bg-leaf px-6 py-5 shadow-lg"
          aria-describedby={undefined}
        >
          <Dialog.Title className="mb-2 text-lg font-semibold">{title}</Dialog.Title>
          <form
            className="flex gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              if (typed?.trim()) enter(typed.trim());
            }}
          >
            <input
              aria-label="Path of the folder"
              className="num min-w-0 grow border border-faint bg-white px-2 py-1"
              value={typed ?? folder?.path ?? path ?? ""}
              onChange={(e) => setTyped(e.target.value)}
            />
            <Button type="submit">Go there</Button>
          </form>
          {here.isError && (
            <p className="mt-2 border-l-4 border-persimmon bg-sheet px-3 py-1.5">{here.error.message}</p>
          )}
          <ul className="mt-2 min-h-40 grow overflow-y-auto border border-rule bg-white" aria-label="Folders">
            {folder?.parent && (
              <li>
                <button
                  className="flex w-full items-center gap-2 px-2 py-1 text-left hover:bg-leaf"
                  onClick={() => enter(folder.parent ?? "/")}
                >
                  <CornerLeftUp size={15} /> the folder above
                </button>
              </li>
            )}
            {folder?.folders.map((name) => (
              <li key={name}>
                <button
                  className="flex w-full items-center gap-2 px-2 py-1 text-left hover:bg-leaf"
                  onClick={() => enter(`${folder.path.replace(/\/$/, "")}/${name}`)}
                >
                  <Folder size={15} /> {name}
                </button>
              </li>
            ))}
            {folder && !folder.folders.length && <li className="px-2 py-1 text-faint">no folders in it</li>}
          </ul>
          <p className="mt-2 text-faint" data-testid="folder-pictures">
            {folder
              ? folder.pictures
                ? `${plural(folder.pictures, "picture")} in this folder`
                : "No pictures in this folder"
              : "Looking …"}
          </p>
          <div className="mt-2 flex flex-wrap items-center gap-2">
            {folder && act(folder.path, folder.pictures)}
            <span className="grow" />
            <Button onClick={close}>Not now</Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
