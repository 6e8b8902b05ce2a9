#!/usr/bin/env python3
"""Measures what Evanu makes up in holes of real photographs, beside general-purpose libraries, and prints rows of docs/measurements.md.

Usage: measure/inventing.py [--only KIND] [--pairs FOLDER] [--holes] [--without]      (--without the libraries)
Photographs come from packages of the registries, for measuring only, and are kept in .measure/ (fetched by measure/real.py and here).
--pairs writes each truth beside Evanu's best variant, in an order that the file `order.txt` tells, for looking at; --holes a row a hole.

Of each hole, inside against a ring around it (and the truth's own inside against the same ring, which is what can be reached):
texture  local deviation (7×7) and the histogram of gradients, within 10 %
seam     mean step across the rim over the mean step beside it, both sides
edge     where the strongest edge runs, in pixels from the truth's, for holes through which one goes
tone     mean difference to the truth, both blurred with σ = 4: only for comparing methods and variants
"""

import argparse
import gzip
import io
import os
import pathlib
import subprocess
import sys
import tempfile
import time
import venv

ROOT = pathlib.Path(__file__).resolve().parent.parent
HOME = ROOT / ".measure/inventing"
EVANU = os.environ.get("EVANU", str(ROOT / "target/release/evanu"))
PYTHON = HOME / "python/bin/python"

if not PYTHON.exists():
    print("making an environment for the libraries", flush=True)
    HOME.mkdir(parents=True, exist_ok=True)
    venv.create(HOME / "python", with_pip=True)
    subprocess.run([PYTHON, "-m", "pip", "install", "--quiet", "numpy", "opencv-contrib-python-headless", "scikit-image", "pillow"], check=True)
if pathlib.Path(sys.executable) != PYTHON:
    os.execv(PYTHON, [str(PYTHON), *sys.argv])

import cv2  # noqa: E402
import numpy as np  # noqa: E402
import skimage  # noqa: E402
from PIL import Image  # noqa: E402
from skimage.restoration import inpaint_biharmonic  # noqa: E402

# Kind, photograph, width it is brought to (0: as it is), middle of the hole in shares of width and height, its width and height in
# pixels, and its shape: o for round, r for rectangular, / for a post that leans.
HOLES = """
grass grass.png 0 .5 .5 60 60 o
grass grass.png 0 .4 .6 120 160 o
grass GreenMeadow.jpg 0 .5 .5 200 200 o
grass GreenMeadow.jpg 0 .3 .6 90 240 r
grass aitzgorri 1600 .3 .85 140 140 o
grass aitzgorri 1600 .7 .9 300 120 o
grass Dragonfly 1600 .4 .5 180 160 o
brick brick.png 0 .5 .5 60 60 r
brick brick.png 0 .4 .5 120 120 o
brick brick.png 0 .6 .4 60 260 /
brick home.png 0 .45 .68 40 40 o
brick aloeL.jpg 0 .12 .4 90 90 o
brick aloeL.jpg 0 .88 .3 120 180 o
brick leuvenA.jpg 0 .9 .55 60 90 o
paving leuvenA.jpg 0 .4 .8 80 60 o
paving leuvenA.jpg 0 .6 .9 160 60 o
paving leuvenA.jpg 0 .3 .85 40 120 /
paving scenetext05.jpg 0 .2 .75 100 100 o
paving scenetext05.jpg 0 .3 .9 160 120 o
paving Wood.jpg 1280 .4 .7 160 120 o
paving Wood.jpg 1280 .6 .6 40 300 /
edges Storm.jpg 1280 .5 .72 60 160 /
edges Storm.jpg 1280 .3 .7 120 120 o
edges Bridge 1600 .3 .5 80 200 r
edges Blinds.jpg 1280 .4 .5 60 300 /
edges Blinds.jpg 1280 .6 .4 160 160 o
edges friends 1000 .6 .8 80 120 o
edges building.jpg 0 .5 .28 60 80 o
edges coffee.png 0 .85 .7 60 60 o
sky rocket.jpg 0 .35 .3 80 80 o
sky Storm.jpg 1280 .5 .2 240 160 o
sky china.jpg 0 .7 .2 100 60 o
sky Bridge 1600 .2 .4 300 300 o
sky picosdeeuropa 1600 .7 .1 240 120 o
sky sunset 1600 .2 .15 400 200 o
border GreenMeadow.jpg 0 .97 .5 80 600 r
border aitzgorri 1600 .5 .98 600 40 r
border Bridge 1600 .03 .8 100 300 r
border Storm.jpg 1280 .02 .95 80 80 r
border leuvenA.jpg 0 .97 .95 50 60 r
border gravel.png 0 .03 .97 60 60 r
border picosdeeuropa 1600 .99 .7 60 400 r
meeting aitzgorri 1600 .25 .62 160 160 o
meeting Bridge 1600 .25 .78 200 160 o
meeting building.jpg 0 .2 .85 80 80 o
meeting leuvenA.jpg 0 .08 .7 60 100 o
meeting picosdeeuropa 1600 .6 .45 160 160 o
meeting sunset 1600 .8 .52 200 160 o
meeting china.jpg 0 .85 .55 60 60 o
water Aqua.jpg 1280 .2 .7 200 160 o
water life 1600 .55 .75 120 120 o
water life 1600 .35 .85 200 120 o
water china.jpg 0 .75 .45 80 40 o
water Aqua.jpg 1280 .5 .85 300 120 o
gravel gravel.png 0 .5 .5 60 60 o
gravel gravel.png 0 .5 .5 160 160 o
gravel gravel.png 0 .4 .5 50 300 /
gravel picosdeeuropa 1600 .3 .8 160 120 o
gravel Picture_0B 1286 .9 .85 160 160 o
gravel scenetext05.jpg 0 .7 .8 200 140 o
facade building.jpg 0 .45 .45 60 60 o
facade building.jpg 0 .6 .5 100 60 r
facade building.jpg 0 .75 .6 40 160 /
facade leuvenA.jpg 0 .1 .4 50 60 o
facade home.png 0 .3 .5 40 40 o
facade china.jpg 0 .35 .55 40 40 o
facade rocket.jpg 0 .5 .7 40 60 o
"""


def fetched():
    """Where photographs may lie; packages that are not there yet are fetched."""
    for package, size in [("mate-backgrounds", "17 MB"), ("opencv-doc", "96 MB"), ("lomiri-wallpapers-16.04", "16 MB")]:
        folder = HOME / package
        if not folder.exists():
            print(f"fetching Debian's {package} ({size})", flush=True)
            subprocess.run(["apt-get", "download", "-qq", package], cwd=HOME, check=True, stderr=subprocess.DEVNULL)
            subprocess.run(["dpkg", "-x", next(HOME.glob(f"{package}_*.deb")), folder], check=True)
    wheel = HOME / "scikit-learn"
    if not wheel.exists():
        subprocess.run([PYTHON, "-m", "pip", "download", "--quiet", "--no-deps", "-d", HOME, "scikit-learn"], check=True)
        subprocess.run([PYTHON, "-m", "zipfile", "-e", next(HOME.glob("scikit_learn*.whl")), wheel], check=True)
    return [pathlib.Path(skimage.__file__).parent / "data", *(HOME / n for n in ("mate-backgrounds", "opencv-doc", "lomiri-wallpapers-16.04")), wheel / "sklearn/datasets/images"]


def photograph(name, width, folders):
    pattern = name if "." in name else f"{name}*.jpg"
    for folder in folders:
        for path in sorted([*folder.rglob(pattern), *folder.rglob(f"{pattern}.gz")]):
            content = gzip.decompress(path.read_bytes()) if path.suffix == ".gz" else path.read_bytes()
            picture = Image.open(io.BytesIO(content)).convert("RGB")
            if width:
                picture = picture.resize((width, round(picture.height * width / picture.width)), Image.LANCZOS)
            return np.asarray(picture)
    sys.exit(f"{name} is in none of the packages")


def hole(shape, size, x, y, w, h):
    height, width = size
    mask = np.zeros(size, np.uint8)
    cx, cy = int(x * width), int(y * height)
    if shape == "o":
        cv2.ellipse(mask, (cx, cy), (w // 2, h // 2), 0, 0, 360, 255, -1)
    elif shape == "r":
        cv2.rectangle(mask, (cx - w // 2, cy - h // 2), (cx + w // 2, cy + h // 2), 255, -1)
    else:
        lean = h // 6
        corners = [(cx - w // 4 + lean, cy - h // 2), (cx + w // 4 + lean, cy - h // 2), (cx + w // 2 - lean, cy + h // 2), (cx - w // 2 - lean, cy + h // 2)]
        cv2.fillPoly(mask, [np.array(corners)], 255)
    return mask > 0


def grey(picture):
    return picture.astype(np.float32) @ np.float32([0.25, 0.5, 0.25])


def deviation(picture):
    g = grey(picture)
    mean = cv2.blur(g, (7, 7))
    return np.sqrt(np.maximum(cv2.blur(g * g, (7, 7)) - mean * mean, 0))


def gradients(picture):
    g = grey(picture)
    return np.abs(np.diff(g, axis=1, append=g[:, -1:])) + np.abs(np.diff(g, axis=0, append=g[-1:]))


def histogram(values):
    counts, _ = np.histogram(values, bins=[0, 1, 2, 3, 5, 8, 12, 18, 27, 40, 60, 1000])
    return counts / max(counts.sum(), 1)


def texture(picture, inside, ring):
    """By how much the deviation inside differs from the ring's, as a share, and how the gradients' histograms do (0 to 1)."""
    d, g = deviation(picture), gradients(picture)
    own, other = d[inside].mean(), d[ring].mean()
    return abs(own / max(other, 0.3) - 1) if max(own, other) > 0.6 else 0.0, 0.5 * np.abs(histogram(g[inside]) - histogram(g[ring])).sum()


def seam(picture, mask):
    p = picture.astype(np.float32)
    across, beside = [], []
    for axis in (0, 1):
        step = np.abs(np.diff(p, axis=axis)).mean(axis=2)
        a, b = (mask[1:], mask[:-1]) if axis == 0 else (mask[:, 1:], mask[:, :-1])
        rim = a != b
        near = cv2.dilate(rim.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        across.append(step[rim])
        beside.append(step[near & ~rim])
    return np.concatenate(across).mean() / max(np.concatenate(beside).mean(), 0.5)


def edge(truth, picture, mask):
    """Mean distance of the strongest edge from the truth's, along columns or rows, where there is one that goes through."""
    best = None
    for turned in (False, True):
        t, p, m = (a.T if turned else a for a in (grey(truth), grey(picture), mask))
        step_t, step_p = (np.abs(np.diff(cv2.GaussianBlur(v, (0, 0), 1.2), axis=0)) for v in (t, p))
        lines = [x for x in range(m.shape[1]) if m[:, x].sum() > 8]
        if not lines:
            continue
        rows = [np.flatnonzero(m[:-1, x]) for x in lines]
        at_t = [r[0] + np.argmax(step_t[r, x]) for r, x in zip(rows, lines)]
        height = np.median([step_t[a, x] for a, x in zip(at_t, lines)])
        fit = np.polyfit(lines, at_t, 2)
        if np.median(np.abs(np.polyval(fit, lines) - at_t)) > 0.7 or height < 4:
            continue
        off = []
        for x, r in zip(lines, rows):
            a = np.polyval(fit, x)
            near = r[np.abs(r - a) < 10]
            if len(near):
                off.append(abs(near[np.argmax(step_p[near, x])] - a))
        if off and (best is None or height > best[0]):
            best = height, float(np.mean(off))
    return None if best is None else best[1]


def tone(truth, picture, mask):
    a, b = (cv2.GaussianBlur(v.astype(np.float32), (0, 0), 4) for v in (truth, picture))
    return float(np.abs(a - b).mean(axis=2)[mask].mean())


def libraries(picture, mask):
    m = mask.astype(np.uint8) * 255
    yield "Telea", cv2.inpaint(picture, m, 5, cv2.INPAINT_TELEA)
    yield "Navier-Stokes", cv2.inpaint(picture, m, 5, cv2.INPAINT_NS)
    if mask.sum() < 12_000:
        yield "biharmonic", (255 * inpaint_biharmonic(picture, mask, channel_axis=-1)).clip(0, 255).round().astype(np.uint8)
    if hasattr(cv2, "xphoto"):
        lab, out = cv2.cvtColor(picture, cv2.COLOR_RGB2Lab), np.zeros_like(picture)
        cv2.xphoto.inpaint(lab, 255 - m, out, cv2.xphoto.INPAINT_SHIFTMAP)
        yield "shift map", cv2.cvtColor(out, cv2.COLOR_Lab2RGB)


def evanu(picture, mask, folder):
    Image.fromarray(picture).save(folder / "in.png")
    Image.fromarray(mask.astype(np.uint8) * 255).save(folder / "mask.png")
    begin = time.monotonic()
    subprocess.run([EVANU, "invent", folder / "in.png", "--mask", folder / "mask.png", "--out", folder / "out.png", "--variants", "4"], check=True, capture_output=True)
    spent = time.monotonic() - begin
    return [np.asarray(Image.open(folder / n)) for n in ("out.png", "out-2.png", "out-3.png", "out-4.png")], spent


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--only")
    parser.add_argument("--pairs", type=pathlib.Path)
    parser.add_argument("--holes", action="store_true")
    parser.add_argument("--without", action="store_true", help="leave the libraries out")
    args = parser.parse_args()
    folders, rows = fetched(), []
    order = np.random.default_rng(28)
    for k, line in enumerate(HOLES.split("\n")[1:-1]):
        kind, name, width, x, y, w, h, shape = line.split()
        if args.only and args.only not in (kind, name, str(k)):
            continue
        picture = photograph(name, int(width), folders)
        mask = hole(shape, picture.shape[:2], float(x), float(y), int(w), int(h))
        reach = max(16, int(min(int(w), int(h)) / 2))
        near = cv2.dilate(mask.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1,) * 2)) > 0
        # Windows of the deviation must lie on one side.
        inside = cv2.erode(np.pad(mask.astype(np.uint8), 4, mode="edge"), np.ones((7, 7), np.uint8))[4:-4, 4:-4] > 0
        ring = near & ~(cv2.dilate(mask.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0)
        row = {"kind": kind, "name": f"{k} {name} {w}×{h}", "truth": texture(picture, inside, ring)}
        empty = picture.copy()
        empty[mask] = (255, 0, 255)
        with tempfile.TemporaryDirectory() as folder:
            variants, row["seconds"] = evanu(empty, mask, pathlib.Path(folder))
        assert all((v[~mask] == picture[~mask]).all() for v in variants), f"{row['name']}: changed outside"
        row["tones"] = [tone(picture, v, mask) for v in variants]
        first = variants[0]
        score = lambda v: (abs(np.log(max(deviation(v)[inside].mean(), 0.3) / max(deviation(picture)[inside].mean(), 0.3))), 0.5 * np.abs(histogram(gradients(v)[inside]) - histogram(gradients(picture)[inside])).sum())  # noqa: E731
        row["texture"], row["seam"], row["edge"] = texture(first, inside, ring), seam(first, mask), edge(picture, first, mask)
        row["seam truth"] = seam(picture, mask)
        row["own"] = score(first)
        row["others"] = {} if args.without else {n: (*score(v), tone(picture, v, mask), seam(v, mask)) for n, v in libraries(empty, mask)}
        rows.append(row)
        if args.holes:
            told = " ".join(f"{n}: {v[0]:.2f} {v[1]:.2f} {v[2]:.1f}" for n, v in row["others"].items())
            at = "-" if row["edge"] is None else f"{row['edge']:.1f}"
            print(f"{kind:8} {row['name']:32} texture {row['texture'][0]:.2f} {row['texture'][1]:.2f} (truth {row['truth'][0]:.2f} {row['truth'][1]:.2f}) own {row['own'][0]:.2f} {row['own'][1]:.2f} seam {row['seam']:.2f} ({row['seam truth']:.2f}) edge {at} tone {' '.join(f'{t:.1f}' for t in row['tones'])} {row['seconds']:.2f} s | {told}", flush=True)
        if args.pairs:
            args.pairs.mkdir(parents=True, exist_ok=True)
            best = variants[int(np.argmin(row["tones"]))]
            ys, xs = np.nonzero(mask)
            more = max(60, (xs.max() - xs.min()) // 2)
            cut = lambda v: v[max(0, ys.min() - more) : ys.max() + more, max(0, xs.min() - more) : xs.max() + more]  # noqa: E731
            turned = bool(order.integers(2))
            pair = [cut(picture), cut(best)][:: -1 if turned else 1]
            gap = np.full((pair[0].shape[0], 12, 3), 119, np.uint8)
            Image.fromarray(np.hstack([pair[0], gap, pair[1]])).save(args.pairs / f"{k:02}-{kind}.png")
            with open(args.pairs / "order.txt", "a") as f:
                f.write(f"{k:02} {row['name']}: {'invented left' if turned else 'invented right'}\n")
    summary(rows)


def summary(rows):
    n = len(rows)
    share = lambda test: f"{100 * sum(map(test, rows)) / n:.0f} %"  # noqa: E731
    within = lambda t: t[0] <= 0.1 and t[1] <= 0.1  # noqa: E731
    print(f"\n{n} holes; the truth's own figure in brackets\n")
    print("| figure | Evanu | wanted |\n|---|---|---|")
    print(f"| local deviation and gradients within 10 % of the ring's | {share(lambda r: within(r['texture']))} ({share(lambda r: within(r['truth']))}) | 90 % |")
    print(f"| local deviation alone | {share(lambda r: r['texture'][0] <= 0.1)} ({share(lambda r: r['truth'][0] <= 0.1)}) | |")
    print(f"| local deviation and gradients within 10 % of the truth's inside | {share(lambda r: r['own'][0] <= 0.1 and r['own'][1] <= 0.1)} | |")
    print(f"| step across the rim at most 1.1 times that beside it | {share(lambda r: r['seam'] <= 1.1)} ({share(lambda r: r['seam truth'] <= 1.1)}) | 95 % |")
    through = [r for r in rows if r["edge"] is not None]
    if through:
        print(f"| edges that go through met within 1 px | {100 * sum(r['edge'] <= 1 for r in through) / len(through):.0f} % of {len(through)} | 90 % |")
    print(f"| best of four variants nearer to the truth than the first, by a tenth at least | {share(lambda r: min(r['tones'][1:]) < 0.9 * r['tones'][0])} | 50 % |")
    for library in dict.fromkeys(name for r in rows for name in r["others"]):
        compared = [r for r in rows if library in r["others"]]
        texture_better = sum(r["own"][0] + r["own"][1] < r["others"][library][0] + r["others"][library][1] for r in compared)
        tone_better = sum(r["tones"][0] < r["others"][library][2] for r in compared)
        print(f"| better than {library}, of {len(compared)}: texture, tone | {100 * texture_better / len(compared):.0f} %, {100 * tone_better / len(compared):.0f} % | 90 % |")
    print(f"| median time of four variants | {np.median([r['seconds'] for r in rows]):.2f} s | |")


if __name__ == "__main__":
    main()
