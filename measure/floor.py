#!/usr/bin/env python3
"""Measures the whole process against its floor, in turn, because a machine's speed changes from minute to minute.

Usage: measure/floor.py WIDTH [EVANU ...]      (a set rendered or enlarged by measure/run.py; other programs to compare)
Five times in turn: decode all frames and encode one (the example `floor`), then `evanu clean` by consensus. Prints seconds, and of
processor time, of each; the medians' ratio, and the median of each run's ratio to the floor beside it.
"""

import os
import pathlib
import statistics
import subprocess
import sys
import time

from stage import EVANU, ROOT, frames_of

frames, programs = frames_of(sys.argv[1]), [pathlib.Path(p) for p in sys.argv[2:]] or [EVANU]
subprocess.run(["cargo", "build", "--release", "--quiet", "--locked", "-p", "evanu-media", "--example", "floor"], cwd=ROOT, check=True)


def timed(command):
    begin = time.monotonic()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    assert status == 0, command
    return time.monotonic() - begin, used.ru_utime + used.ru_stime


floor, runs = [], {p: [] for p in programs}
for _ in range(5):
    floor.append(timed([ROOT / "target/release/examples/floor", ROOT / ".measure/floor.tif", *frames]))
    for program in programs:
        runs[program].append(timed([program, "clean", *frames, "--out", ROOT / ".measure/plate.tif"]))


def told(times):
    return " ".join(f"{wall:.1f} ({used:.1f})" for wall, used in times)


def median(times):
    return statistics.median(wall for wall, _ in times)


print(f"floor: {told(floor)} s")
for program, times in runs.items():
    beside = statistics.median(t[0] / f[0] for t, f in zip(times, floor))
    print(f"{program.name}: {told(times)} s; {median(times) / median(floor):.2f} times the floor, beside it {beside:.2f}")
