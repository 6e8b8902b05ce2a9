// Figures in words a photographer uses.
import type { Frame } from "../api/client";

export const clock = (time: string | null | undefined) => time?.slice(11, 19) ?? "no clock";

export function exposure(f: Frame): string {
  const parts: string[] = [];
  if (f.exposure_s) parts.push(f.exposure_s < 0.4 ? `1/${Math.round(1 / f.exposure_s)} s` : `${f.exposure_s} s`);
  if (f.aperture) parts.push(`f/${f.aperture}`);
  if (f.iso) parts.push(`ISO ${f.iso}`);
  if (f.focal_mm) parts.push(`${Math.round(f.focal_mm)} mm`);
  return parts.join("  ");
}

/** How a frame was moved, for example "turned 0.4°, 31 px to the left". */
export function movement(f: Frame): string {
  if (!f.moved) return "";
  const [dx, dy] = f.moved;
  const words: string[] = [];
  if (Math.abs(f.turned_deg ?? 0) >= 0.05)
    words.push(`turned ${Math.abs(f.turned_deg ?? 0).toFixed(1)}° ${(f.turned_deg ?? 0) > 0 ? "right" : "left"}`);
  if (Math.abs(dx) >= 0.5) words.push(`${Math.abs(dx).toFixed(0)} px ${dx > 0 ? "right" : "left"}`);
  if (Math.abs(dy) >= 0.5) words.push(`${Math.abs(dy).toFixed(0)} px ${dy > 0 ? "down" : "up"}`);
  const scale = ((f.scaled ?? 1) - 1) * 100;
  if (Math.abs(scale) >= 0.5) words.push(`${Math.abs(scale).toFixed(1)} % ${scale > 0 ? "larger" : "smaller"}`);
  return words.length ? words.join(", ") : "not moved";
}

export const plural = (n: number, one: string, many = `${one}s`) => `${n} ${n === 1 ? one : many}`;

export const methodTitles: Record<string, string> = {
  consensus: "Consensus",
  median: "Median",
  clipped: "Clipped mean",
  everybody: "Everybody",
  mean: "Mean",
  darkest: "Darkest",
  lightest: "Lightest",
};

export const methodTitle = (method: string) => methodTitles[method] ?? method.replace("rank:", "Rank ");

/** A share of the plate that is made up, in percent. */
export const madeUp = (share: number) => `${(100 * share).toFixed(share < 0.001 ? 2 : 1)} %`;
