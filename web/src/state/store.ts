// What the page shows, a slice a tool. A tool adds one: what a set begins with is `fresh`, what stays from set to set `lasting`.
import { create } from "zustand";
import { clipView } from "../clip/slice";
import { doubts } from "../doubts/slice";
import { drawing, followed } from "../drawing/slice";
import { contactSheet } from "../frames/slice";
import { alignment } from "../hand/slice";
import { history } from "../history/slice";
import { keySheet } from "../keys/slice";
import { lookThrough } from "../lookthrough/slice";
import { patches } from "../patches/slice";
import { picture } from "../picture/slice";
import { touches } from "../touches/slice";

/** What every set begins with. */
export const fresh = {
  ...picture.fresh,
  ...drawing.fresh,
  ...contactSheet.fresh,
  ...alignment.fresh,
  ...doubts.fresh,
  ...patches.fresh,
  ...touches.fresh,
  ...lookThrough.fresh,
  ...history.fresh,
  ...clipView.fresh,
};
const lasting = {
  ...picture.lasting,
  ...drawing.lasting,
  ...patches.lasting,
  ...lookThrough.lasting,
  ...keySheet.lasting,
};

type Values = typeof fresh & typeof lasting;
interface Store extends Values {
  set: (part: Partial<Values>) => void;
}

export const useView = create<Store>((set) => ({
  ...fresh,
  ...lasting,
  set: (part) => set((now) => ({ ...part, ...followed(now, part) })),
}));
