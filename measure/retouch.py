#!/usr/bin/env python3
"""Measures retouching over HTTP at a size of frames: how long inventions, copies and what changes of the plate take.

Usage: measure/retouch.py [WIDTH]      (7360: frames that measure/run.py enlarged; memory is the server's peak)
"""

import json
import sys
import time

from stage import Server, frames_of


def area(x, y, side):
    return [{"x": x + dx * side, "y": y + dy * side} for dx, dy in ((0, 0), (1, 0), (1, 1), (0, 1))]


def main():
    width = int(sys.argv[1]) if len(sys.argv) > 1 else 7360
    with Server() as server:
        one = server.new_set("Retouch")
        server.bring(one, frames_of(width))
        path = f"/api/sets/{one}"
        ask = lambda method, where, body=None: json.loads(server.ask(method, path + where, body))  # noqa: E731
        server.ask("POST", f"{path}/prepare")
        server.wait(one)
        # The consensus is decided, and the plate's tiles where the strokes are were looked at.
        server.ask("GET", f"{path}/agreement")
        detail = ask("GET", "")
        canvas = detail["canvas"]
        x, y = canvas["width"] // 3, int(0.75 * canvas["height"])
        rows = []

        def touch(side, act, across=0):
            return {"on": detail["reference"], "outline": area(x + across, y, side), "act": act, "feather": 2, "strength": 1, "disabled": False}

        def timed(name, work, wanted):
            begin = time.monotonic()
            work()
            rows.append((name, time.monotonic() - begin, wanted))

        attempt = lambda side, seed, variants, across: ask("POST", "/touches/try", {"touch": touch(side, {"invent": {"seed": seed, "variant": 0}}, across), "at": None, "variants": variants})  # noqa: E731
        timed("300 × 300 px, the first variant", lambda: attempt(300, 1, 1, 0), 1)
        timed("300 × 300 px, four variants", lambda: attempt(300, 2, 4, 500), 2)
        timed("1000 × 1000 px, the first variant", lambda: attempt(1000, 3, 1, 0), None)
        timed("1000 × 1000 px, four variants", lambda: attempt(1000, 4, 4, 900), 8)
        source = touch(120, {"copy": {"transform": {"shift": [0, 0], "turn": 0, "scale": 1, "mirror": False}}})
        found = []
        timed("120 × 120 px, a source proposed", lambda: found.append(ask("POST", "/touches/source", {"touch": source, "at": None, "variants": 1})), None)
        for kind, more in (("copy", {}), ("mend", {"only": "both"})):
            act = {kind: {"transform": found[0]["transform"], **more}}
            change = {"label": "retouch", "recipe": {"touches": [touch(120, act)]}}
            tile = lambda key: server.ask("GET", f"{path}/tiles/{key}/plate/0/{x // 512}_{y // 512}.jpg")  # noqa: E731
            before = tile(ask("GET", "")["plate_key"])

            def laid():
                now = ask("PATCH", "/recipe", change)
                assert tile(now["plate_key"]) != before, "nothing was laid"

            timed(f"120 × 120 px, a {kind} laid, until its tile at 100 % is there", laid, 0.2)
        memory = server.memory()
    print(f"| {width} px | s | wanted |\n|---|---|---|")
    for name, spent, wanted in rows:
        print(f"| {name} | {spent:.2f} | {wanted or ''} |")
    print(f"| most memory of the server | {memory} MB | |")


if __name__ == "__main__":
    main()
