// How frames become one plate: methods by outcome, and what the plate covers.
import { useQuery } from "@tanstack/react-query";
import { api, type SetDetail } from "../api/client";
import type { OpenSet } from "../api/useSet";
import { useView } from "../picture/view";
import { Choices, type Choice } from "../ui/controls";
import { methodTitle } from "../ui/words";
import type { Fact } from "./JobSheet";

const methods: Choice[] = [
  { value: "consensus", title: "Empty", formula: "consensus", note: "Finds what is behind, also where it is clear in few frames, and lists what stays in doubt." },
  { value: "median", title: "What is there most of the time", formula: "median", note: "The middle value, channel by channel. No doubts are told." },
  { value: "mean", title: "Everybody, faintly", formula: "mean", note: "The average of all: silky movement, less noise, ghosts." },
  { value: "darkest", title: "No glare", formula: "darkest", note: "For reflections that move. Grows darker with every frame." },
  { value: "lightest", title: "Trails of light", formula: "lightest", note: "Keeps every lamp and spark." },
];

const canvases: Choice[] = [
  { value: "reference", title: "The reference frame's framing" },
  { value: "common", title: "Only what all frames share" },
];

export function useCombineFact(set: SetDetail): Fact {
  const agreement = useQuery({
    queryKey: ["agreement", set.id, set.plate_key],
    queryFn: () => api.agreement(set.id),
    enabled: set.plate_key != null,
  });
  if (!set.canvas) return { text: "no plate yet" };
  const share = agreement.data ? `, ${(agreement.data.mean * 100).toFixed(1)} % agreed` : "";
  return { text: `${methodTitle(set.recipe.method)}${share}` };
}

export function CombineLine({ open, set }: { open: OpenSet; set: SetDetail }) {
  const { view, set: put } = useView();
  return (
    <div className="flex flex-col gap-3">
      <Choices label="Method" value={set.recipe.method} choices={methods} onChange={(method) => open.change(`combine by ${method}`, { method })} />
      <div>
        <div className="text-[14px] text-faint">The plate covers</div>
        <Choices
          label="Canvas"
          value={set.recipe.canvas}
          choices={canvases}
          onChange={(canvas) => open.change(canvas === "common" ? "keep what all frames share" : "keep the reference's framing", { canvas })}
        />
      </div>
      <button className="self-start text-[14px] underline" disabled={!set.canvas} onClick={() => put({ view: view === "agreement" ? "plate" : "agreement" })}>
        {view === "agreement" ? "Back to the plate" : "Show where frames agree"}
      </button>
    </div>
  );
}
