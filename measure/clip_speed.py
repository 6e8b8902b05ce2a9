#!/usr/bin/env python3
"""Times the repair of a clip of 1920 × 1080, and what it takes of memory, beside ffmpeg alone.

Usage: measure/clip_speed.py [SECONDS]      (needs target/release/evanu; ffmpeg)
The hall sample is enlarged and repeated. Printed: seconds for decoding it, for its plate, for decoding and coding it as `evanu clip` does without any
change, and for `evanu clip` with the lamp stand's area (three per cent of the picture); and the most memory that evanu took with all it started.
"""

import pathlib
import resource
import subprocess
import sys
import tempfile
import time

ROOT = pathlib.Path(__file__).parents[1]
EVANU = ROOT / "target/release/evanu"
seconds = int(sys.argv[1]) if len(sys.argv) > 1 else 20


def run(words, cwd):
    begin = time.monotonic()
    subprocess.run([str(w) for w in words], cwd=cwd, check=True, capture_output=True)
    return time.monotonic() - begin


with tempfile.TemporaryDirectory() as name:
    folder = pathlib.Path(name)
    sample = ROOT / "crates/demo/samples/hall/hall.mp4"
    run(["ffmpeg", "-v", "error", "-stream_loop", "-1", "-t", seconds, "-i", sample, "-vf", "scale=1920:1080:flags=bicubic,noise=alls=4:allf=t", "-c:v", "libx264", "-crf", "18", "-preset", "veryfast", "-c:a", "copy", "in.mp4"], folder)
    # The stand: its pole, head and feet.
    shapes = "+".join(f"between(X,{a},{b})*between(Y,{c},{d})" for a, b, c, d in ((1486, 1512, 430, 950), (1430, 1550, 350, 440), (1390, 1860, 900, 1030)))
    run(["ffmpeg", "-v", "error", "-f", "lavfi", "-i", f"color=black:size=1920x1080,format=gray,geq=lum='255*({shapes})'", "-frames:v", "1", "mask.png"], folder)
    decode = run(["ffmpeg", "-v", "error", "-i", "in.mp4", "-map", "0:v", "-f", "null", "-"], folder)
    again = run(["ffmpeg", "-v", "error", "-i", "in.mp4", "-c:v", "libx264", "-crf", "16", "-preset", "medium", "-c:a", "copy", "again.mp4"], folder)
    plate = run([EVANU, "clip", "in.mp4", "--out", "plate.png"], folder)
    whole = run([EVANU, "clip", "in.mp4", "--out", "out.mp4", "--plate", "plate.png", "--patch-mask", "mask.png"], folder)
    most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    frames = 25 * seconds
    print("| | seconds | frames/s | |\n|---|---|---|---|")
    print(f"| decoding {frames} frames | {decode:.1f} | {frames / decode:.0f} | |")
    print(f"| the plate from time | {plate:.1f} | | {plate / decode:.1f} times decoding |")
    print(f"| decoding and coding without any change | {again:.1f} | {frames / again:.1f} | |")
    print(f"| the finished clip | {whole:.1f} | {frames / whole:.1f} | {again / whole:.2f} of that speed |")
    print(f"| most memory of one process | {most:.0f} MB | | |")
