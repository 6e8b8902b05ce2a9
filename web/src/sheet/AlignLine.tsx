// How frames lie over each other: the fit of each, the reference, the allowed transforms, matched tone.
import type { SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { frameNumber } from "../picture/names";
import { useView } from "../picture/view";
import { Toggle } from "../ui/controls";
import { movement } from "../ui/words";
import type { Fact } from "./JobSheet";

const models: [string, string][] = [
  ["auto", "As little as the frames ask for"],
  ["off", "Not at all: tripod"],
  ["shift", "Shift"],
  ["rigid", "Shift and turn"],
  ["similarity", "Shift, turn and zoom"],
  ["perspective", "Full perspective"],
];

export function alignFact(set: SetDetail): Fact {
  const fits = set.frames.filter((f) => f.residual_px != null);
  if (!set.canvas) return { text: set.frames.length ? "not aligned yet" : "nothing to align" };
  const misfits = set.frames.filter((f) => f.state === "ready" && f.reason).length;
  const worst = fits.reduce((a, b) => ((b.residual_px ?? 0) > (a?.residual_px ?? -1) ? b : a), fits[0]);
  const told = misfits ? `, ${misfits} not fitting` : "";
  if (!worst || fits.length === 1) return { text: `one frame, nothing to align${told}` };
  if (set.recipe.align === "off") return { text: "left as shot" };
  return { text: `worst ${(worst.residual_px ?? 0).toFixed(2)} px, frame ${frameNumber(set, worst.index)}${told}` };
}

export function AlignLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const put = useView((s) => s.set);
  const field = "mt-0.5 w-full border border-faint/60 bg-leaf px-1 py-0.5";
  return (
    <div className="flex flex-col gap-2 text-[14px]">
      <label>
        Frames may be changed by
        <select className={field} value={set.recipe.align} onChange={(e) => open.change(`align by ${e.target.value}`, { align: e.target.value })}>
          {models.map(([value, title]) => (
            <option key={value} value={value}>
              {title}
            </option>
          ))}
        </select>
      </label>
      <label>
        Reference frame, which keeps its framing
        <select
          className={field}
          value={set.recipe.reference ?? "auto"}
          onChange={(e) => {
            const reference = e.target.value === "auto" ? null : Number(e.target.value);
            open.change(reference == null ? "let Evanu propose the reference" : `make frame ${frameNumber(set, reference)} the reference`, { reference });
          }}
        >
          <option value="auto">{set.reference == null ? "Proposed" : `Proposed: frame ${frameNumber(set, set.reference)}, nearest to the others, as sharp and bright as most`}</option>
          {set.frames
            .filter((f) => f.index != null)
            .map((f) => (
              <option key={f.id} value={f.index ?? 0}>
                Frame {frameNumber(set, f.index)}
              </option>
            ))}
        </select>
      </label>
      <Toggle
        label="Match exposure and colour"
        note="Each frame's light is brought to the reference frame's, measured where nothing moved."
        checked={set.recipe.match_exposure}
        onChange={(on) => open.change(on ? "match exposure" : "leave exposure as shot", { match_exposure: on })}
      />
      {set.canvas && (
        <table className="w-full border-collapse">
          <thead>
            <tr className="text-left text-[13px] text-faint">
              <th className="pr-2 font-normal">Frame</th>
              <th className="font-normal">How it was moved</th>
              <th className="text-right font-normal">off by</th>
            </tr>
          </thead>
          <tbody>
            {set.frames
              .filter((f) => f.residual_px != null)
              .map((f) => (
                <tr key={f.id} className="cursor-pointer border-t border-rule/60 align-top hover:bg-leaf" onClick={() => put({ view: `frame-${f.index}`, flicking: false })}>
                  <td className="num py-0.5">{frameNumber(set, f.index)}</td>
                  <td className="py-0.5 leading-tight">{f.index === set.reference ? "reference, not moved" : movement(f)}</td>
                  <td className="num py-0.5 text-right whitespace-nowrap">{f.index === set.reference ? "" : `${(f.residual_px ?? 0).toFixed(2)} px`}</td>
                </tr>
              ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
