// What an area would look like; pointed at, a variant is shown in its place, and parts of several are drawn together.
import { useEffect } from "react";
import type { SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { plate } from "../picture/views";
import { useView } from "../state/store";
import { Button, Progress } from "../ui/controls";
import { choose, findPlane, leave, more, tryOtherwise, wider } from "./touches";

export function Variants({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { trying, part, set: put } = useView();
  useEffect(() => () => void put({ variant: null }), [put]);
  if (!trying) return null;
  const { touch, at } = trying;
  const laid = at != null && touch.act !== "flare" && "invent" in touch.act ? touch.act.invent.variant : null;
  const draw = (drawing: "part" | "barred" | "plane") =>
    put({ drawing, view: plate, sheet: false, flicking: false, taking: null, giving: false });
  return (
    <section aria-label="Variants" className="flex flex-col gap-1.5 border-y border-rule py-1.5">
      {trying.hints.map((hint) => (
        <p key={hint} className="leading-tight text-persimmon">
          {hint[0]?.toUpperCase()}
          {hint.slice(1)}.
        </p>
      ))}
      {!trying.variants ? (
        <Progress
          name="Looking at what is around it"
          share={trying.share}
          action={
            <button className="underline" onClick={() => leave(set)}>
              Stop
            </button>
          }
        />
      ) : (
        <div className="grid grid-cols-2 gap-1.5">
          {trying.variants.map((variant) => (
            <div
              key={variant.variant}
              className={`border bg-leaf ${laid === variant.variant ? "border-2 border-verdigris" : "border-faint/60"}`}
              onPointerEnter={() => put({ variant })}
              onPointerLeave={() => put({ variant: null })}
            >
              <button
                className="block w-full hover:opacity-90 focus-visible:outline-2"
                aria-label={`Variant ${variant.variant + 1}`}
                aria-pressed={laid === variant.variant}
                onFocus={() => put({ variant })}
                onBlur={() => put({ variant: null })}
                onClick={() => choose(open, set, variant)}
              >
                <img src={variant.picture} alt="" className="h-24 w-full object-cover" />
              </button>
              <div className="flex items-baseline justify-between px-1">
                <span className="num">{variant.variant + 1}</span>
                {at != null && (
                  <button
                    className={`underline ${part === variant.variant ? "font-semibold" : ""}`}
                    aria-label={`A part of variant ${variant.variant + 1}`}
                    onClick={() => (put({ part: variant.variant, variant: null }), draw("part"))}
                  >
                    a part of it
                  </button>
                )}
              </div>
            </div>
          ))}
        </div>
      )}
      <div className="flex flex-wrap gap-2">
        <Button disabled={!trying.variants} onClick={() => void more(set)}>
          Four more
        </Button>
        <Button
          disabled={!trying.variants}
          title="The area a little farther out all around"
          onClick={() => tryOtherwise(open, set, { outline: wider(touch.outline), parts: [] }, "a wider area")}
        >
          Wider
        </Button>
        <Button
          disabled={!trying.variants}
          title="Draw around what nothing is to be taken from"
          onClick={() => draw("barred")}
        >
          Not from here
        </Button>
        {touch.plane ? (
          <>
            <Button
              disabled={!trying.variants}
              title="Two lines that run side by side in the world"
              onClick={() => draw("plane")}
            >
              Its lines
            </Button>
            <Button
              disabled={!trying.variants}
              onClick={() => tryOtherwise(open, set, { plane: null, parts: [] }, "an area without a plane")}
            >
              Not in a plane
            </Button>
          </>
        ) : (
          <Button
            disabled={!trying.variants}
            title="By the edges around it: what is taken is foreshortened with them"
            onClick={() => void findPlane(open, set, touch, at)}
          >
            In a plane
          </Button>
        )}
        <Button onClick={() => leave(set)}>{at == null ? "Leave it" : "Done"}</Button>
      </div>
    </section>
  );
}
