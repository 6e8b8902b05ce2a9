// Files from a drop, also from within folders.

const entriesOf = (folder: FileSystemDirectoryEntry) =>
  new Promise<FileSystemEntry[]>((done, failed) => {
    const reader = folder.createReader();
    const all: FileSystemEntry[] = [];
    // A reader hands out a hundred at a time.
    const more = () => reader.readEntries((some) => (some.length ? (all.push(...some), more()) : done(all)), failed);
    more();
  });

async function walk(entry: FileSystemEntry): Promise<File[]> {
  if (entry.name.startsWith(".")) return [];
  if (entry.isFile)
    return [await new Promise<File>((done, failed) => (entry as FileSystemFileEntry).file(done, failed))];
  const inside = await entriesOf(entry as FileSystemDirectoryEntry);
  return (await Promise.all(inside.map(walk))).flat();
}

export async function dropped(data: DataTransfer): Promise<File[]> {
  const entries = [...data.items].map((i) => i.webkitGetAsEntry()).filter((e): e is FileSystemEntry => e !== null);
  const files = entries.length ? (await Promise.all(entries.map(walk))).flat() : [...data.files];
  return files.sort((a, b) => a.name.localeCompare(b.name, undefined, { numeric: true }));
}
