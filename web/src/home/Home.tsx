// All sets, each with its picture, and bringing in a new shoot.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { FolderOpen, HardDrive, Images, MoreHorizontal } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useRef, useState } from "react";
import { api, bringIn, type SetSummary } from "../api/client";
import { Button, Progress } from "../ui/controls";
import { FolderDialog } from "../ui/FolderDialog";
import { tell, tellError } from "../ui/Notices";
import { go } from "../ui/path";
import { plural } from "../ui/words";
import { dropped } from "./dropped";
import { Samples } from "./Samples";

export function Home() {
  const sets = useQuery({ queryKey: ["sets"], queryFn: api.sets });
  const [sending, setSending] = useState<number | null>(null);
  const [over, setOver] = useState(false);
  const files = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);

  const take = async (list: File[]) => {
    setSending(0);
    const id = await bringIn(list, setSending);
    setSending(null);
    if (id) go(`/set/${id}`);
  };
  const [browsing, setBrowsing] = useState(false);
  const fromFolder = (path: string, copy: boolean) => {
    setBrowsing(false);
    const name = path.split("/").filter(Boolean).pop() ?? "Shoot";
    api
      .create(name, true)
      .then(async ({ id }) => {
        try {
          await api.addFolder(id, path, copy);
        } catch (e) {
          await api.remove(id);
          throw e;
        }
        await api.prepare(id);
        go(`/set/${id}`);
      })
      .catch(tellError);
  };

  return (
    <main
      className={`min-h-full bg-sheet px-10 py-8 ${over ? "outline-4 -outline-offset-8 outline-dashed outline-verdigris" : ""}`}
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        e.preventDefault();
        setOver(false);
        void dropped(e.dataTransfer).then(take);
      }}
    >
      <header className="mx-auto flex max-w-6xl flex-wrap items-end gap-x-6 gap-y-3 border-b border-rule pb-4">
        <div className="grow">
          <h1 className="text-2xl font-semibold">Evanu</h1>
          <p className="text-faint">Several frames of a busy place in, one empty plate out.</p>
        </div>
        <Button strong onClick={() => files.current?.click()}>
          <Images size={17} /> Bring in frames
        </Button>
        <Button onClick={() => folder.current?.click()}>
          <FolderOpen size={17} /> Bring in a folder
        </Button>
        <Button onClick={() => setBrowsing(true)}>
          <HardDrive size={17} /> From this computer, without copying
        </Button>
        <FolderDialog
          open={browsing}
          close={() => setBrowsing(false)}
          title="Frames in a folder of this computer"
          act={(path, pictures) => (
            <>
              <Button strong disabled={!pictures} onClick={() => fromFolder(path, false)}>
                Leave them there
              </Button>
              <Button disabled={!pictures} onClick={() => fromFolder(path, true)}>
                Copy them
              </Button>
            </>
          )}
        />
        <input
          ref={files}
          type="file"
          multiple
          hidden
          data-testid="files"
          onChange={(e) => void take([...(e.target.files ?? [])])}
        />
        <input
          ref={folder}
          type="file"
          multiple
          hidden
          {...{ webkitdirectory: "" }}
          onChange={(e) => void take([...(e.target.files ?? [])].filter((f) => !f.name.startsWith(".")))}
        />
      </header>
      <section className="mx-auto mt-6 max-w-6xl" aria-label="Sets">
        {sending !== null && (
          <div className="mb-6 max-w-md">
            <Progress name="Copying frames to Evanu's folder" share={sending} />
          </div>
        )}
        {sets.isError && <p className="border-l-4 border-persimmon bg-leaf px-3 py-2">{sets.error.message}</p>}
        {sets.isPending && (
          <div className="grid grid-cols-[repeat(auto-fill,minmax(260px,1fr))] gap-6">
            {[0, 1, 2].map((k) => (
              <div key={k} className="skeleton aspect-[3/2]" />
            ))}
          </div>
        )}
        {sets.data?.length === 0 && sending === null && (
          <div className="max-w-4xl py-10">
            <h2 className="text-xl font-semibold">Nothing here yet</h2>
            <p className="mt-2">
              Drop the frames you took of one place anywhere on this page, or bring them in with the buttons above.
              Nearly every bit of the place should be clear in at least half of them.
            </p>
            <p className="mt-2">A whole shoot may come in at once: Evanu tells its views apart.</p>
            <h3 className="mt-6 font-semibold">Or try it with a sample: an open day at an observatory</h3>
            <Samples />
          </div>
        )}
        <ul className="grid grid-cols-[repeat(auto-fill,minmax(260px,1fr))] gap-x-6 gap-y-8">
          {sets.data?.map((s) => (
            <Card key={s.id} set={s} />
          ))}
        </ul>
        {!!sets.data?.length && (
          <footer className="mt-10 border-t border-rule pt-4">
            <p className="text-faint">Drop frames anywhere on this page for a new set, or open a sample anew:</p>
            <Samples />
          </footer>
        )}
      </section>
    </main>
  );
}

function Card({ set }: { set: SetSummary }) {
  const client = useQueryClient();
  const [naming, setNaming] = useState(false);
  const again = () => client.invalidateQueries({ queryKey: ["sets"] });
  const act = (work: Promise<unknown>) => work.then(again).catch(tellError);
  const remove = () =>
    act(api.remove(set.id).then(() => tell(`"${set.name}" deleted.`, { undo: () => void act(api.restore(set.id)) })));
  const busy = set.run && (set.run.state === "running" || set.run.state === "queued") ? set.run : null;
  const item = "px-3 py-1.5 outline-none data-[highlighted]:bg-ink data-[highlighted]:text-leaf";
  return (
    <li data-set={set.id}>
      <button className="block w-full text-left" onClick={() => go(`/set/${set.id}`)} aria-label={`Open ${set.name}`}>
        {set.cover ? (
          <img
            src={`/api/sets/${set.id}/cover?side=600&v=${set.cover}`}
            alt=""
            className="aspect-[3/2] w-full bg-[#777] object-cover"
          />
        ) : (
          <div className="flex aspect-[3/2] w-full items-center justify-center bg-[#b9b6af] text-faint">
            {busy ? "on its way" : set.run?.state === "failed" ? "could not be read" : "no plate yet"}
          </div>
        )}
      </button>
      <div className="mt-1.5 flex items-start gap-2">
        {naming ? (
          <input
            autoFocus
            aria-label="Name of the set"
            defaultValue={set.name}
            className="grow border border-ink bg-white px-1"
            onKeyDown={(e) => {
              if (e.key === "Enter") e.currentTarget.blur();
              if (e.key === "Escape") setNaming(false);
            }}
            onBlur={(e) => {
              setNaming(false);
              if (e.target.value.trim() && e.target.value !== set.name) void act(api.rename(set.id, e.target.value));
            }}
          />
        ) : (
          <div className="grow">
            <button className="text-left font-semibold hover:underline" onClick={() => go(`/set/${set.id}`)}>
              {set.name}
            </button>
            {set.note && !busy && <div className="text-[13px] leading-tight text-faint">{set.note}</div>}
            <div className="text-faint">
              {busy?.step ? `${busy.step.name}, ${Math.round(busy.step.share * 100)} %` : plural(set.frames, "frame")}
            </div>
          </div>
        )}
        <DropdownMenu.Root>
          <DropdownMenu.Trigger aria-label={`What can be done with ${set.name}`} className="p-1 hover:bg-leaf">
            <MoreHorizontal size={18} />
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content align="end" className="z-40 min-w-40 border border-faint bg-leaf py-1 shadow">
              <DropdownMenu.Item className={item} onSelect={() => go(`/set/${set.id}`)}>
                Open
              </DropdownMenu.Item>
              <DropdownMenu.Item className={item} onSelect={() => setTimeout(() => setNaming(true))}>
                Rename
              </DropdownMenu.Item>
              <DropdownMenu.Item className={item} onSelect={() => void act(api.duplicate(set.id))}>
                Duplicate
              </DropdownMenu.Item>
              <DropdownMenu.Item className={item} onSelect={() => void remove()}>
                Delete
              </DropdownMenu.Item>
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      </div>
    </li>
  );
}
