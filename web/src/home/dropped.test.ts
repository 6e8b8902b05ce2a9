import { expect, test } from "vitest";
import { dropped } from "./dropped";

const file = (name: string) => ({
  name,
  isFile: true,
  isDirectory: false,
  file: (done: (f: File) => void) => done(new File(["x"], name)),
});

/** A folder whose reader hands out two entries at a time, as browsers hand out a hundred. */
function folder(name: string, inside: unknown[]) {
  return {
    name,
    isFile: false,
    isDirectory: true,
    createReader: () => {
      let at = 0;
      return {
        readEntries: (done: (some: unknown[]) => void) => {
          const some = inside.slice(at, at + 2);
          at += 2;
          done(some);
        },
      };
    },
  };
}

const data = (entries: unknown[], files: File[] = []) =>
  ({ items: entries.map((e) => ({ webkitGetAsEntry: () => e })), files }) as unknown as DataTransfer;

test("files within folders are found, hidden ones are not, and names are in order of their numbers", async () => {
  const shoot = folder("shoot", [
    file("frame-10.jpg"),
    file("frame-9.jpg"),
    file(".index"),
    folder("more", [file("frame-2.jpg")]),
    folder(".cache", [file("frame-1.jpg")]),
  ]);
  const found = await dropped(data([shoot, file("frame-1.jpg")]));
  expect(found.map((f) => f.name)).toEqual(["frame-1.jpg", "frame-2.jpg", "frame-9.jpg", "frame-10.jpg"]);
});

test("without entries the plain list of files is taken", async () => {
  const found = await dropped(data([null], [new File([""], "b.jpg"), new File([""], "a.jpg")]));
  expect(found.map((f) => f.name)).toEqual(["a.jpg", "b.jpg"]);
});
