#!/usr/bin/env python3
"""Measures Evanu against the library pipeline on rendered truth and writes docs/measurements.md.

Usage: measure/run.py [WIDTH ...] [ENLARGED:FROM]      (default 1600 4242 7360:4242: 1.7, 12 and 36 megapixels)
Sets are rendered once into .measure/; the library pipeline gets an environment of its own there. ENLARGED:FROM takes
the frames of a rendered set enlarged to another width, with a sensor's grain at that size and stored as finely as a camera does, so
that a file has as many bytes a pixel as a rendered one; for time and memory only: rendering 36 megapixels takes long.
"""

import json
import os
import pathlib
import subprocess
import sys
import time

ROOT = pathlib.Path(__file__).resolve().parent.parent
WORK = ROOT / ".measure"
EVANU = ROOT / "target/release/evanu"
PYTHON = WORK / "venv/bin/python"


def prepare():
    WORK.mkdir(exist_ok=True)
    subprocess.run(["cargo", "build", "--release", "--quiet", "--locked", "-p", "evanu"], cwd=ROOT, check=True)
    subprocess.run(["cargo", "build", "--release", "--quiet", "--locked", "-p", "evanu-media", "--example", "floor"], cwd=ROOT, check=True)
    if not PYTHON.exists():
        print("making an environment for the library pipeline")
        subprocess.run([sys.executable, "-m", "venv", WORK / "venv"], check=True)
        subprocess.run([PYTHON, "-m", "pip", "install", "--quiet", "opencv-python-headless", "numpy"], check=True)


def rendered(width):
    folder = WORK / f"forecourt-{width}"
    if not (folder / "done").exists():
        subprocess.run([EVANU, "demo", "--render", "forecourt", "--width", str(width), folder], check=True)
        (folder / "done").touch()
    return folder


def enlarged(width, base):
    source, folder = rendered(base), WORK / f"enlarged-{width}"
    if not (folder / "done").exists():
        folder.mkdir(exist_ok=True)
        code = (
            "import cv2, numpy, pathlib, sys\n"
            "for k, p in enumerate(sorted(pathlib.Path(sys.argv[1]).glob('*.jpg'))):\n"
            "    i = cv2.imread(str(p)); w = int(sys.argv[3])\n"
            "    i = cv2.resize(i, (w, round(w * i.shape[0] / i.shape[1])), interpolation=cv2.INTER_CUBIC)\n"
            "    grain = 3 * numpy.random.default_rng(k).standard_normal(i.shape, numpy.float32)\n"
            "    i = numpy.clip(i + grain + 0.5, 0, 255).astype(numpy.uint8)\n"
            "    cv2.imwrite(f'{sys.argv[2]}/{p.name}', i, [cv2.IMWRITE_JPEG_QUALITY, 95])\n"
        )
        subprocess.run([PYTHON, "-c", code, source, folder, str(width)], check=True)
        (folder / "done").touch()
    return folder


def timed(command):
    """Wall seconds and peak resident megabytes of a whole process."""
    env = {k: v for k, v in os.environ.items() if not k.startswith("OPENBLAS")}
    begin = time.monotonic()
    child = subprocess.Popen([str(c) for c in command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=env)
    _, status, usage = os.wait4(child.pid, 0)
    if status:
        sys.exit(f"{command} failed")
    return time.monotonic() - begin, usage.ru_maxrss / 1024


def score(folder, plate, report):
    text = subprocess.run([EVANU, "score", folder / "truth", plate, report], check=True, capture_output=True, text=True).stdout
    return json.loads(text)


def best(command, times=3):
    runs = [timed(command) for _ in range(times)]
    return min(r[0] for r in runs), max(r[1] for r in runs)


def measure(what):
    width, base = (what.split(":") + [""])[:2]
    folder = enlarged(width, base) if base else rendered(width)
    figures = (lambda *_: None) if base else score
    plate, report = WORK / f"plate-{width}.tif", WORK / f"report-{width}.json"
    # The folder holds the truth too; frames are named one by one so that both programs read the same.
    frames = sorted(folder.glob("*.jpg"))
    ours = best([EVANU, "clean", *frames, "--out", plate])
    floor = best([ROOT / "target/release/examples/floor", WORK / "floor.tif", *frames])
    timed([EVANU, "clean", *frames, "--out", plate, "--report", report])
    reference = json.loads(report.read_text())["reference"]
    other, told = WORK / f"library-{width}.tif", WORK / f"library-{width}.json"
    library = best([PYTHON, ROOT / "measure/library.py", folder, other, told, reference], 1)
    count = 100 if int(width) <= 1600 else 0 if base else 60
    many = best([EVANU, "clean", *(frames * 9)[:count], "--out", WORK / "many.tif"], 1) if count else None
    return {
        "width": width,
        "evanu": {"seconds": ours[0], "mb": ours[1], "score": figures(folder, plate, report)},
        "library": {"seconds": library[0], "mb": library[1], "score": figures(folder, other, told)},
        "floor": {"seconds": floor[0], "mb": floor[1]},
        "many": many,
        "count": count,
    }


def table(rows):
    out = ["| width | pipeline | time s | peak MB | PSNR dB | SSIM | AGE | pEPs % | ghost area % | sharpness % | worst alignment px | worst gain % |", "|---|---|---|---|---|---|---|---|---|---|---|---|"]
    for row in rows:
        for name in ("evanu", "library"):
            r = row[name]
            line = f"| {row['width']} | {name} | {r['seconds']:.2f} | {r['mb']:.0f} "
            if q := r["score"]:
                gain = f"{q['worst_gain']:.2f}" if name == "evanu" else "not matched"
                line += (
                    f"| {q['psnr']:.2f} | {q['ssim']:.4f} | {q['age']:.2f} | {q['peps']:.2f} | {q['ghost_area']:.2f} | {q['sharpness']:.1f} "
                    f"| {q['worst_alignment']:.3f} | {gain} |"
                )
            else:
                line += "| | | | | | | | |"
            out.append(line)
        f = row["floor"]
        out.append(f"| {row['width']} | floor: decode twelve, encode one | {f['seconds']:.2f} | {f['mb']:.0f} | | | | | | | | |")
    out.append("")
    for row in rows:
        e, l, f = row["evanu"], row["library"], row["floor"]
        out.append(
            f"- {row['width']} px: {l['seconds'] / e['seconds']:.1f} times as fast as the library pipeline with "
            f"{100 * e['mb'] / l['mb']:.0f} % of its memory; {e['seconds'] / f['seconds']:.1f} times the floor."
        )
        if row["many"]:
            out.append(f"- {row['width']} px, {row['count']} frames instead of 12: {row['many'][1]:.0f} MB peak ({100 * (row['many'][1] / e['mb'] - 1):+.0f} %), {row['many'][0]:.1f} s.")
    return "\n".join(out)


def main():
    prepare()
    rows = [measure(w) for w in (sys.argv[1:] or ["1600", "4242", "7360:4242"])]
    text = table(rows)
    print(text)
    page = ROOT / "docs/measurements.md"
    head, _, rest = page.read_text().partition("<!-- figures -->")
    _, _, tail = rest.partition("<!-- end -->")
    page.write_text(f"{head}<!-- figures -->\n{text}\n<!-- end -->{tail}")


main()
