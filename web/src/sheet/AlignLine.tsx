// How frames lie over each other: the fit of each, the reference, the allowed transforms, matched tone.
import { useState } from "react";
import type { Frame, Recipe, SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { frameNumber, isLaid } from "../picture/names";
import { useView } from "../state/store";
import { frameView, plate } from "../picture/views";
import { Button } from "../ui/controls";
import { movement, plural } from "../ui/words";
import { FitReport } from "./FitReport";
import type { Fact } from "./fact";

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
  const tripod = set.positions > 1 && 2 * set.positions <= fits.length;
  const kicked = tripod ? `, ${plural(set.positions, "camera position")}` : "";
  const hands = set.frames.filter((f) => f.by_hand).length;
  const laid = hands ? `, ${hands} by hand` : "";
  const doubtful = fits.filter((f) => f.doubtful && f.id !== set.reference).length;
  return {
    text: `worst ${(worst.residual_px ?? 0).toFixed(2)} px, frame ${frameNumber(set, worst.id)}${kicked}${laid}${told}`,
    open: doubtful > 0,
  };
}

export function AlignLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const [unfolded, unfold] = useState<number | null>(null);
  const field = "mt-0.5 w-full border border-faint/60 bg-leaf px-1 py-0.5";
  return (
    <div className="flex flex-col gap-2 text-[14px]">
      <label>
        Frames may be changed by
        <select
          className={field}
          value={set.recipe.align}
          onChange={(e) => open.change(`align by ${e.target.value}`, { align: e.target.value as Recipe["align"] })}
        >
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
            void open.change(
              reference == null
                ? "let Evanu propose the reference"
                : `make frame ${frameNumber(set, reference)} the reference`,
              { reference },
            );
          }}
        >
          <option value="auto">
            {set.reference == null
              ? "Proposed"
              : `Proposed: frame ${frameNumber(set, set.reference)}, nearest to the others, as sharp and bright as most`}
          </option>
          {set.frames
            .filter((f) => f.joined)
            .map((f) => (
              <option key={f.id} value={f.id}>
                Frame {frameNumber(set, f.id)}
              </option>
            ))}
        </select>
      </label>
      <label>
        Exposure and colour
        <select
          className={field}
          value={set.recipe.match_exposure}
          onChange={(e) =>
            open.change(matchLabel(e.target.value), { match_exposure: e.target.value as Recipe["match_exposure"] })
          }
        >
          <option value="auto">Matched, unless varied on purpose</option>
          <option value="on">Matched in any case</option>
          <option value="off">Left as shot</option>
        </select>
      </label>
      {set.light && (
        <p className={`text-[13px] leading-tight ${set.light.kind === "varied" ? "text-persimmon" : "text-faint"}`}>
          {set.light.kind === "varied" ? "▸ " : ""}
          {sentence(set.light.text)}
        </p>
      )}
      {set.lens_percent != null && (
        <p className="text-[13px] leading-tight text-faint">
          The lens moves the corners by {Math.abs(set.lens_percent).toFixed(1)} %{" "}
          {set.lens_percent > 0 ? "outwards" : "inwards"}: the frames are bent to match the reference, once.
        </p>
      )}
      {set.canvas && <GuideAreas open={open} set={set} />}
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
              .filter((f) => f.state === "ready")
              .map((f) => (
                <FrameRow
                  key={f.id}
                  set={set}
                  frame={f}
                  unfolded={unfolded === f.id}
                  toggle={() => unfold(unfolded === f.id ? null : f.id)}
                />
              ))}
          </tbody>
        </table>
      )}
    </div>
  );
}

const matchLabel = (value: string) =>
  ({ auto: "match exposure", on: "match exposure in any case", disabled: "leave exposure as shot" })[value] ?? value;
const sentence = (text: string) => `${text.charAt(0).toUpperCase()}${text.slice(1)}.`;

function FrameRow({
  set,
  frame: f,
  unfolded,
  toggle,
}: {
  set: SetDetail;
  frame: Frame;
  unfolded: boolean;
  toggle: () => void;
}) {
  const put = useView((s) => s.set);
  const fits = isLaid(f);
  const choose = () => {
    toggle();
    if (fits && !unfolded) put({ view: frameView(f.id), flicking: false, sheet: false });
  };
  const text =
    f.id === set.reference
      ? "reference, not moved"
      : f.reason
        ? "does not fit"
        : `${movement(f)}${f.by_hand ? ", by hand" : ""}`;
  return (
    <>
      <tr className="cursor-pointer border-t border-rule/60 align-top hover:bg-leaf" onClick={choose}>
        <td className="num py-0.5">
          <button
            aria-expanded={unfolded}
            aria-label={`How frame ${frameNumber(set, f.id)} fits`}
            onClick={(e) => (e.stopPropagation(), choose())}
          >
            {frameNumber(set, f.id)}
          </button>
        </td>
        <td className={`py-0.5 pr-2 leading-tight ${f.doubtful && f.id !== set.reference ? "text-persimmon" : ""}`}>
          {f.doubtful && f.id !== set.reference ? `▸ ${text}` : text}
        </td>
        <td className="num py-0.5 text-right whitespace-nowrap">
          {f.id === set.reference || f.residual_px == null ? "" : `${f.residual_px.toFixed(2)} px`}
        </td>
      </tr>
      {unfolded && (
        <tr>
          <td colSpan={3}>
            <FitReport set={set} frame={f} />
          </td>
        </tr>
      )}
    </>
  );
}

/** Areas that must not lead, or alone must fit. */
function GuideAreas({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { drawing, set: put } = useView();
  const areas = set.recipe.areas;
  const begin = (what: "ignore" | "fit") =>
    put({
      drawing: drawing === what ? null : what,
      view: set.reference == null ? plate : frameView(set.reference),
      sheet: false,
      other: null,
    });
  const press = "aria-pressed:bg-ink aria-pressed:text-leaf";
  return (
    <div>
      <div className="text-[13px] text-faint">What leads the alignment, drawn on the reference</div>
      <div className="mt-0.5 flex gap-2">
        <Button className={press} aria-pressed={drawing === "ignore"} onClick={() => begin("ignore")}>
          Ignore an area
        </Button>
        <Button className={press} aria-pressed={drawing === "fit"} onClick={() => begin("fit")}>
          This must fit
        </Button>
      </div>
      {areas.length > 0 && (
        <ul className="mt-1">
          {areas.map((a, k) => (
            <li key={k} className="flex justify-between border-b border-rule/60 text-[14px]">
              <span>{a.guide === "ignore" ? "ignored area" : "area that must fit"}</span>
              <button
                className="underline"
                onClick={() =>
                  open.change("take an area of the alignment away", { areas: areas.filter((_, i) => i !== k) })
                }
              >
                take away
              </button>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
