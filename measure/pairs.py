#!/usr/bin/env python3
"""Times two programs in turn on the same frames: what a change of the code costs, or gains.

Usage: measure/pairs.py OLD NEW FRAMES [PAIRS] [OPTION ...]      (two programs, a folder of frames; 7 pairs; options of `evanu clean`)
Each pair runs both, the first of them in turn. Prints the medians of seconds, seconds of processor and megabytes for both, and the
median of the ratios within a pair, which what else the machine does moves least. Written plates must be the same to the byte.
"""

import os
import pathlib
import statistics
import subprocess
import sys
import tempfile
import time

programs, frames = sys.argv[1:3], sys.argv[3]
pairs = int(sys.argv[4]) if len(sys.argv) > 4 else 7


def run(program, out):
    """Seconds, seconds of processor, megabytes at most."""
    begin = time.perf_counter()
    process = subprocess.Popen([program, "clean", frames, "--out", out, *sys.argv[5:]], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    if status:
        sys.exit(f"{program} failed")
    return time.perf_counter() - begin, used.ru_utime + used.ru_stime, used.ru_maxrss / 1024


with tempfile.TemporaryDirectory() as folder:
    outs = [pathlib.Path(folder) / f"{k}.tif" for k in range(2)]
    seen = []
    for k in range(pairs + 1):
        turn = (0, 1) if k % 2 else (1, 0)
        pair = {which: run(programs[which], outs[which]) for which in turn}
        if k:  # the first pair brings files into memory
            seen.append((pair[0], pair[1]))
    for name, figure in zip(("seconds", "of processor", "megabytes"), range(3)):
        old, new = ([pair[which][figure] for pair in seen] for which in range(2))
        ratio = statistics.median(b / a for a, b in zip(old, new))
        print(f"{name}: {statistics.median(old):.3f} and {statistics.median(new):.3f}, ratio within a pair {ratio:.3f}")
    print("same bytes" if outs[0].read_bytes() == outs[1].read_bytes() else "OTHER BYTES")
