// What was found about frames, said once for all that it is true of.
import type { Frame } from "../api/client";

/** Findings of three frames or more, each said once, with the numbers of its frames. */
export function sharedFindings(all: Pick<Frame, "findings">[]) {
  const found = new Map<string, { text: string; matters: boolean; frames: number[] }>();
  all.forEach((f, n) => {
    for (const { text, matters } of f.findings) {
      const one = found.get(text) ?? { text, matters, frames: [] };
      one.frames.push(n + 1);
      found.set(text, one);
    }
  });
  return [...found.values()].filter((one) => one.frames.length >= 3);
}

/** Numbers in order, those that follow each other as from and to: "2–12, 14". */
export function runs(numbers: number[]): string {
  const out: [number, number][] = [];
  for (const n of numbers) {
    const last = out.at(-1);
    if (last && last[1] === n - 1) last[1] = n;
    else out.push([n, n]);
  }
  return out.map(([a, b]) => (a === b ? `${a}` : `${a}–${b}`)).join(", ");
}
