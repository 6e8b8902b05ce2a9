// Setting frames aside and bringing them back.
import type { Recipe } from "../api/client";

export const asideLabel = (number: number, aside: boolean) =>
  aside ? `bring frame ${number} back` : `set frame ${number} aside`;

/** The part of a recipe by which frames are set aside, or take part again. */
export function setAside(recipe: Recipe, frames: number[], out: boolean): Pick<Recipe, "excluded"> {
  const others = recipe.excluded.filter((id) => !frames.includes(id));
  return { excluded: out ? [...others, ...frames] : others };
}
