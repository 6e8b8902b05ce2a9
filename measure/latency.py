#!/usr/bin/env python3
"""Measures how soon the screen follows: method switches, lifts and the look-through, over HTTP as the pages ask.

Usage: measure/latency.py WIDTH      (a set rendered or enlarged by measure/run.py; the server is started on a free port)
Prints milliseconds: from the last file's arrival to the first plate; from a switch, or a loop that is let go, until every tile
of a 976×614 viewport has come, six requests at a time, at the zoom that shows the whole plate and at 100 %, also with a hundred
lifts on the plate; for what the best frame for a loop is asked; and for one look-through of all frames after the first.
"""

import concurrent.futures
import json
import sys
import time

from stage import Server, frames_of, lift, loop

frames = frames_of(sys.argv[1])


def state():
    return server.get(f"/api/sets/{one}")


fetched = set()


def key(now, level, x, y):
    """What a tile is called, as web/src/picture/tiles.ts has it."""
    side, names = now["canvas"]["tile"] * 2**level, now["tile_names"]
    if not names:
        return now["plate_key"]
    reach = [r["name"] for r in names["patches"] if x * side <= r["right"] and (x + 1) * side >= r["left"] and y * side <= r["bottom"] and (y + 1) * side >= r["top"]]
    return now["plate_key"] if len(reach) > 8 else "-".join([names["bare"], *reach])


def viewport(now, level, left, top):
    """Every tile of the viewport that a page has not fetched before."""
    canvas, tile = now["canvas"], now["canvas"]["tile"]
    width, height = -(-canvas["width"] // 2**level), -(-canvas["height"] // 2**level)
    xs = range(left // tile, min(left + 976, width - 1) // tile + 1)
    ys = range(top // tile, min(top + 614, height - 1) // tile + 1)
    paths = {f"/api/sets/{one}/tiles/{key(now, level, x, y)}/plate/{level}/{x}_{y}.jpg" for y in ys for x in xs} - fetched
    fetched.update(paths)
    with concurrent.futures.ThreadPoolExecutor(6) as pool:
        list(pool.map(lambda p: server.ask("GET", p), paths))


def change(part, level, left, top):
    """Milliseconds from a change of the recipe until the viewport shows it."""
    begin = time.monotonic()
    now = json.loads(server.ask("PATCH", f"/api/sets/{one}/recipe", {"label": "measured", "recipe": part}))
    viewport(now, level, left, top)
    return 1000 * (time.monotonic() - begin)


def lay(count, level, left, top, side):
    """Lays lifts one after another within the viewport; milliseconds of each."""
    times = []
    for k in range(count):
        x, y = ((left + 200 + 110 * k % 600) * 2**level, (top + 200 + 70 * k % 240) * 2**level)
        times.append(change({"patches": state()["recipe"]["patches"] + [lift(k, x, y, side, state())]}, level, left, top))
    return " ".join(f"{t:.0f}" for t in times)


with Server() as server:
    one = server.new_set("latency")
    server.bring(one, frames)
    begin = time.monotonic()
    server.ask("POST", f"/api/sets/{one}/prepare")
    server.wait(one, lambda set: set["plate_key"])
    print(f"read and aligned: {time.monotonic() - begin:.1f} s")
    size = state()["canvas"]
    whole = next(k for k in range(16) if size["width"] // 2**k <= 1400)
    viewport(state(), whole, 0, 0)
    print(f"first plate, by the median: {time.monotonic() - begin:.1f} s")
    server.wait(one)
    viewport(state(), whole, 0, 0)
    print(f"first plate, by consensus: {time.monotonic() - begin:.1f} s")
    places = (("whole plate", whole, 0, 0), ("at 100 %", 0, size["width"] // 3, size["height"] // 2))
    for name, level, left, top in places:
        begin = time.monotonic()
        viewport(state(), level, left, top)  # what is changed is already on the screen
        print(f"first showing, {name}: {1000 * (time.monotonic() - begin):.0f} ms")
        times = [change({"method": m}, level, left, top) for m in ("darkest", "lightest", "mean", "rank:30", "rank:70", "consensus")]
        print(f"method switch, {name} (level {level}): {' '.join(f'{t:.0f}' for t in times)} ms")
    side = size["width"] / 40
    for name, level, left, top in places:
        change({"patches": []}, level, left, top)
        print(f"a loop let go, {name}: {lay(8, level, left, top, side)} ms")
    wanted = {"at": {"x": size["width"] / 2, "y": size["height"] * 0.7}, "outline": loop(size["width"] / 2, size["height"] * 0.7, side)}
    begin = time.monotonic()
    server.ask("POST", f"/api/sets/{one}/patches/proposals", wanted)
    print(f"frames proposed for a loop: {1000 * (time.monotonic() - begin):.0f} ms")
    many = [lift(k, size["width"] * (0.05 + 0.1 * (k % 10)), size["height"] * (0.05 + 0.1 * (k // 10)), side, state()) for k in range(100)]
    name, level, left, top = places[1]
    print(f"a hundred lifts at once: {change({'patches': many}, level, left, top):.0f} ms")
    print(f"a loop let go over a hundred lifts, {name}: {lay(8, level, left, top, side)} ms")
    looks = []
    for k in range(12):
        begin = time.monotonic()
        server.ask("GET", f"/api/sets/{one}/look?x={500 + 61 * k}&y={size['height'] * 0.6:.0f}&level={k % 3}&width=74&height=88")
        looks.append(1000 * (time.monotonic() - begin))
    print(f"look-through: first {looks[0]:.0f} ms, then {' '.join(f'{t:.0f}' for t in looks[1:])} ms")
