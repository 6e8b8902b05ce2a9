#!/usr/bin/env python3
"""Measures the methods on random sets of many kinds beside the library pipeline and writes docs/measurements.md.

Usage: measure/combining.py [SETS] [WIDTH] [SEED] [KIND,KIND]      (default 20 480 3 and KINDS)
The sets are rendered by `--example combining`; the library pipeline gets the same frames as PNG, and both are scored on the
grid of the frame that Evanu chose as reference.
"""

import json
import os
import pathlib
import shutil
import subprocess
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
WORK = ROOT / ".measure"
PYTHON = WORK / "venv/bin/python"
KINDS = "static,sparse,medium,crowded,three,pair,overlapping,lingering,glare,standing,near,waiting,staying"
SCORE = """
import cv2, json, sys
import numpy as np
truth, plate, ever = cv2.imread(sys.argv[1]), cv2.imread(sys.argv[2]), cv2.imread(sys.argv[3], 0) > 0
grey = lambda i: i.astype(float) @ [0.114, 0.587, 0.299]
mse = ((truth.astype(float) - plate) ** 2).mean()
ghost = 100 * (abs(grey(truth) - grey(plate))[ever] > 12).mean() if ever.any() else 0.0
print(json.dumps([10 * np.log10(255 ** 2 / mse), ghost]))
"""


def library(folder):
    """PSNR in dB and ghost area in percent of the library pipeline's plate; None when it fails."""
    reference = json.loads((folder / "set.json").read_text())["reference"]
    out = folder / "library.tif"
    made = subprocess.run(
        [PYTHON, ROOT / "measure/library.py", folder / "frames", out, folder / "library.json", str(reference)],
        capture_output=True,
    )
    if made.returncode:
        return None
    score = subprocess.run(
        [PYTHON, "-c", SCORE, folder / "truth.png", out, folder / "ever.png"], capture_output=True, text=True, check=True
    )
    return json.loads(score.stdout)


def main():
    sets, width, seed, kinds = (sys.argv[1:] + ["20", "480", "3", KINDS][len(sys.argv) - 1 :])[:4]
    if not PYTHON.exists():
        subprocess.run([sys.executable, "-m", "venv", WORK / "venv"], check=True)
        subprocess.run([PYTHON, "-m", "pip", "install", "--quiet", "opencv-python-headless", "numpy"], check=True)
    folder = WORK / "combining"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    command = ["cargo", "run", "--release", "--quiet", "--locked", "-p", "evanu-demo", "--example", "combining", "--", sets, width, seed, kinds]
    lines = subprocess.run(command, cwd=ROOT, env=os.environ | {"FRAMES": str(folder)}, capture_output=True, text=True, check=True).stdout
    (WORK / "combining.txt").write_text(lines)
    rows = [json.loads(line) for line in lines.splitlines() if line.startswith("{")]
    text = [
        "| kind | sets | consensus PSNR dB | median | library | ghost area %: consensus | where a frame is clear | worst set | median | library "
        "| changed areas, right | wrong places, in doubt | doubts, needed, idle | error over the ideal average % | false colour %: consensus | median | pieces of borders, smooth |",
        "|" + "---|" * 17,
    ]
    for row in rows:
        scores = [s for s in map(library, sorted(folder.glob(f"{row['kind']}-*"))) if s]
        mean = [sum(s[i] for s in scores) / max(len(scores), 1) for i in (0, 1)]
        text.append(
            f"| {row['kind']} | {row['sets']} | {row['consensus_psnr']:.2f} | {row['median_psnr']:.2f} | {mean[0]:.2f} "
            f"| {row['consensus_ghost']:.3f} | {row['avoidable_ghost']:.3f} | {row['worst_ghost']:.2f} | {row['median_ghost']:.2f} | {mean[1]:.2f} "
            f"| {row['areas']}, {row['right']} | {row['wrong_places']}, {row['doubted']} | {row['doubts']}, {row['needed']}, {row['idle']} | {row['lost']:.1f} "
            f"| {row['false_colour']:.3f} | {row['median_false_colour']:.3f} | {row['borders']}, {row['smooth_borders']} |"
        )
    print("\n".join(text))
    page = ROOT / "docs/measurements.md"
    head, _, rest = page.read_text().partition("<!-- combining -->")
    _, _, tail = rest.partition("<!-- end combining -->")
    page.write_text(f"{head}<!-- combining -->\n" + "\n".join(text) + f"\n<!-- end combining -->{tail}")


main()
