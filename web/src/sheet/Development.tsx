// The one development of all frames of a set; it lies on top of everything that was combined.
import { useState } from "react";
import type { Develop, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";

export const neutral: Develop = { exposure: 0, warmth: 0, tint: 0, highlights: 0, shadows: 0 };

interface Row {
  key: keyof Develop;
  name: string;
  most: number;
  step: number;
  tell: (v: number) => string;
}

const signed = (v: number, digits: number) => `${v > 0 ? "+" : v < 0 ? "−" : ""}${Math.abs(v).toFixed(digits)}`;
const percent = (v: number) => `${signed(100 * v, 0)} %`;
const rows: Row[] = [
  { key: "exposure", name: "Exposure", most: 3, step: 0.05, tell: (v) => `${signed(v, 2)} stops` },
  { key: "warmth", name: "Warmth", most: 1, step: 0.02, tell: percent },
  { key: "tint", name: "Magenta", most: 1, step: 0.02, tell: percent },
  { key: "highlights", name: "Highlights", most: 1, step: 0.02, tell: percent },
  { key: "shadows", name: "Shadows", most: 1, step: 0.02, tell: percent },
];

export const isNeutral = (d: Develop) => rows.every((r) => d[r.key] === 0);

export function Development({ open, set }: { open: OpenSet; set: SetDetail }) {
  const saved = set.recipe.develop;
  const [now, setNow] = useState(saved);
  const [before, setBefore] = useState(saved);
  if (before !== saved) {
    // Undo, or another page: the sliders follow.
    setBefore(saved);
    setNow(saved);
  }
  const put = (value: Develop, name: string) => {
    if (rows.some((r) => value[r.key] !== saved[r.key]))
      void open.change(`develop: ${name.toLowerCase()}`, { develop: value });
  };
  return (
    <fieldset className="mt-3 border-t border-rule pt-2">
      <legend className="pr-2 font-semibold">Development of all frames</legend>
      <p className="mb-1 text-[13px] leading-tight text-faint">
        One for the whole set, on top of what is combined: it never makes a seam and stays editable.
      </p>
      {rows.map((r) => (
        <label key={r.key} className="grid grid-cols-[78px_1fr_86px] items-center gap-2 text-[14px]">
          {r.name}
          <input
            type="range"
            min={-r.most}
            max={r.most}
            step={r.step}
            value={now[r.key]}
            className="min-w-0 accent-ink"
            onChange={(e) => setNow({ ...now, [r.key]: Number(e.target.value) })}
            onPointerUp={() => put(now, r.name)}
            onKeyUp={() => put(now, r.name)}
            onDoubleClick={() => put({ ...now, [r.key]: 0 }, r.name)}
          />
          <span className="num text-right">{r.tell(now[r.key])}</span>
        </label>
      ))}
      {!isNeutral(saved) && (
        <button className="text-[14px] underline" onClick={() => open.change("develop: as shot", { develop: neutral })}>
          As shot again
        </button>
      )}
    </fieldset>
  );
}
