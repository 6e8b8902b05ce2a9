#!/usr/bin/env python3
"""Measures covering an area of clips against rendered truth, beside a still picture laid over them.

Usage: measure/clips.py [COUNT [WIDTH [FRAMES]]]      (clips of each kind; needs numpy, in .measure/inventing/python after measure/inventing.py)
Two lamp posts, a cable and a poster are covered while visitors cross. Printed for each kind: the share of the patch's pixels that are off by more than 12 codes
(means over 5 × 5), free of people and over all; how much what is left trembles over time there; how many of the pixels of people over the patch
are wrong, also those that pass behind what is covered; and frames with people over more than a hundredth of the patch that are not listed.
"""

import json
import pathlib
import subprocess
import sys
import tempfile

import numpy as np

EVANU = pathlib.Path(__file__).parents[1] / "target/release/evanu"
count, width, frames = (int(v) for v in (sys.argv[1:] + ["20", "320", "50"][len(sys.argv) - 1 :])[:3])


def read(path):
    """Brightness of all frames."""
    data = path.read_bytes()
    at = data.index(b"\n") + 1
    words = data[:at].decode().split()
    w, h = (int(next(word[1:] for word in words if word[0] == c)) for c in "WH")
    out = []
    while at < len(data):
        at = data.index(b"\n", at) + 1
        out.append(np.frombuffer(data, np.uint8, w * h, at).reshape(h, w).astype(np.float32))
        at += w * h * 3 // 2
    return np.array(out)


def means(frames, reach):
    """Over squares."""
    padded = np.pad(frames, ((0, 0), (reach, reach), (reach, reach)), mode="edge")
    sums = np.pad(padded.cumsum(1).cumsum(2), ((0, 0), (1, 0), (1, 0)))
    n = 2 * reach + 1
    return (sums[:, n:, n:] - sums[:, :-n, n:] - sums[:, n:, :-n] + sums[:, :-n, :-n]) / n**2


def mask_of(path):
    lines = subprocess.run(["ffmpeg", "-v", "error", "-i", path, "-f", "rawvideo", "-pix_fmt", "gray", "-"], capture_output=True, check=True).stdout
    return np.frombuffer(lines, np.uint8) > 127


def score(made, truth, free, mask):
    off = np.abs(means(made - truth, 2)) > 12
    inside = np.broadcast_to(mask, off.shape)
    left = np.where(free & mask, means(made - truth, 4), np.nan)[:, mask]
    enough = np.isfinite(left).sum(0) > len(made) // 2
    people = inside & ~free
    wrong = (np.abs(made - truth) > 12)[people]
    return 100 * off[inside & free].mean(), 100 * off[inside].mean(), float(np.nanstd(left[:, enough], 0).mean()), 100 * wrong.mean() if wrong.size else 0.0


print("| kind | clips | | off, free of people | off, all | trembles by | people wrong | frames unlisted |\n|---|---|---|---|---|---|---|---|")
for kind in ("clip", "clip-fading", "clip-shaken"):
    rows, still, unlisted = [], [], 0
    for seed in range(count):
        with tempfile.TemporaryDirectory() as name:
            folder = pathlib.Path(name)
            subprocess.run([EVANU, "demo", "--render", kind, "--width", str(width), "--frames", str(frames), "--seed", str(100 + seed), folder], check=True, capture_output=True)
            subprocess.run([EVANU, "clip", "in.y4m", "--out", "out.y4m", "--plate", "plate.png", "--patch-mask", "mask.png", "--report", "r.json"], cwd=folder, check=True, capture_output=True)
            truth, made, source = (read(folder / f"{n}.y4m") for n in ("truth", "out", "in"))
            free = read(folder / "occupied.y4m") < 40
            mask = mask_of(folder / "mask.png").reshape(truth.shape[1:])
            rows.append(score(made, truth, free, mask))
            # A still: the first frame as it would be without anybody, over all.
            first = np.where(free[0] & mask, truth[0], np.median(truth, 0))
            still.append(score(np.where(mask, first, source), truth, free, mask))
            told = json.loads((folder / "r.json").read_text())["contacts"]
            share = (~free & mask).reshape(frames, -1).sum(1) / mask.sum()
            unlisted += sum(1 for k in range(frames) if share[k] > 0.01 and not any(c["first"] <= k <= c["last"] for c in told))
    for name, all_rows, missed in (("Evanu", rows, unlisted), ("a still", still, "")):
        a, b, c, d = np.mean(all_rows, 0)
        print(f"| {kind} | {count} | {name} | {a:.3f} % | {b:.3f} % | {c:.2f} | {d:.1f} % | {missed} |", flush=True)
