#!/usr/bin/env python3
"""Prints a digest of every picture that Evanu makes, so that two programs can be compared line by line.

Usage: measure/digest.py [EVANU [DATA ...]]      (target/release/evanu)
Of the shipped samples: plates by every method, all file formats, the common area, agreement and origin, at the command line.
Of each DATA folder, which is copied and opened by a server: every state of every set, with its tiles at all levels, frames as
shot and as aligned, differences, methods, agreement, pictures of evidence, the look-through, lists of doubts, and exports.
`diff` of two outputs names what changed.
"""

import contextlib
import hashlib
import json
import pathlib
import shutil
import subprocess
import sys
import tempfile

import stage

METHODS = ["consensus", "median", "mean", "clipped", "everybody", "darkest", "lightest", "rank:30"]


def told(name, data):
    print(f"{hashlib.sha256(data).hexdigest()[:32]} {name}", flush=True)


def exr(data):
    """A file without the order in which its pieces happened to be written."""
    at = 8
    while data[at]:
        at = data.index(0, data.index(0, at) + 1) + 1
        at += 4 + int.from_bytes(data[at : at + 4], "little")
    at += 1
    # The list of places ends where the first piece begins, which need not be the first of the list.
    places = []
    while not places or at + 8 * len(places) < min(places):
        entry = at + 8 * len(places)
        places.append(int.from_bytes(data[entry : entry + 8], "little"))
    whole = [data[:at]]
    head = 16 if b"tiledesc\0" in data[:at] else 4
    for place in places:
        size = int.from_bytes(data[place + head : place + head + 4], "little")
        whole.append(data[place : place + head + 4 + size])
    return b"".join(whole)


def report(path):
    """A report without what differs from run to run."""
    text = json.loads(path.read_text())
    del text["seconds"]
    for frame in text["frames"]:
        frame["path"] = pathlib.Path(frame["path"]).name
    return json.dumps(text, sort_keys=True).encode()


def command_line(folder):
    subprocess.run([stage.EVANU, "demo", folder / "samples"], check=True, stdout=subprocess.DEVNULL)
    for samples in sorted((folder / "samples").iterdir()):
        def clean(name, *options, out="plate.tif"):
            to = folder / out
            subprocess.run([stage.EVANU, "clean", samples, "--out", to, *options], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            data = to.read_bytes()
            told(f"{samples.name} {name}", exr(data) if out.endswith(".exr") else data)

        for method in METHODS:
            clean(method, "--method", method)
        extra = {what: folder / f"{what}.{kind}" for what, kind in (("agreement", "png"), ("origin", "png"), ("report", "json"))}
        clean("png", *(part for what, path in extra.items() for part in (f"--{what}", path)), out="plate.png")
        told(f"{samples.name} agreement", extra["agreement"].read_bytes())
        told(f"{samples.name} origin", extra["origin"].read_bytes())
        told(f"{samples.name} report", report(extra["report"]))
        clean("jpg", "--canvas", "common", out="plate.jpg")
        clean("exr", out="plate.exr")


def tiles(server, one, key, view, canvas):
    """One digest over all tiles of a view."""
    all_of_it = hashlib.sha256()
    for level in range(canvas["levels"]):
        side = canvas["tile"] << level
        for y in range(-(-canvas["height"] // side)):
            for x in range(-(-canvas["width"] // side)):
                all_of_it.update(server.ask("GET", f"/api/sets/{one}/tiles/{key}/{view}/{level}/{x}_{y}.png"))
    return all_of_it.digest()


def ready(set):
    return not set["draft"] and (not set["run"] or set["run"]["state"] in ("done", "failed"))


def state_of(server, one, name):
    now = server.wait(one, lambda s: ready(s) and s["canvas"])
    canvas, plate, frames = now["canvas"], now["plate_key"], now["frame_key"]
    told(f"{name} plate", tiles(server, one, plate, "plate", canvas))
    told(f"{name} agreement", tiles(server, one, plate, "agreement", canvas))
    for method in METHODS[:4]:
        told(f"{name} by-{method}", tiles(server, one, plate, f"by-{method}", canvas))
    for place, frame in enumerate(now["frames"]):
        number = frame.get("index", frame["id"])
        for view in ("frame", "difference"):
            told(f"{name} {view} {place}", tiles(server, one, frames, f"{view}-{number}", canvas))
        own = {**canvas, "width": frame["width"], "height": frame["height"], "levels": 1}
        told(f"{name} shot {place}", tiles(server, one, frames, f"shot-{number}", own))
    with contextlib.suppress(stage.urllib.error.HTTPError):
        for what in ("origin", "alone", "few"):
            told(f"{name} {what}", server.ask("GET", f"/api/sets/{one}/evidence/{what}.png"))
    for k in range(4):
        x, y = canvas["width"] * (0.2 + 0.17 * k), canvas["height"] * (0.3 + 0.12 * k)
        look = server.get(f"/api/sets/{one}/look?x={x}&y={y}&level={k % 3}&width=90&height=70")
        told(f"{name} look {k}", look["strip"].encode())
        told(f"{name} agrees {k}", json.dumps([(c["agrees"], c["share"]) for c in look["crops"]]).encode())
    for what in ("doubts", "moving", "seams/print"):
        kept = ("place", "bbox", "confidence", "settled", "outline", "share", "step", "words")
        list_of = [{k: d.get(k) for k in kept} for d in server.get(f"/api/sets/{one}/{what}")]
        told(f"{name} {what}", json.dumps(list_of).encode())
    told(f"{name} agreement figures", json.dumps(server.get(f"/api/sets/{one}/agreement")).encode())
    for kind, level in (("tiff", 0), ("exr", 0), ("jpeg", 1), ("png", 0)):
        run = json.loads(server.ask("POST", f"/api/sets/{one}/exports", {"format": kind, "level": level, "quality": 92}))["id"]
        server.wait(one, lambda s: s["run"]["id"] == run and s["run"]["state"] in ("done", "failed"))
        data = server.ask("GET", f"/api/runs/{run}/file")
        told(f"{name} export {kind}", exr(data) if kind == "exr" else data)


def data_folder(folder, kept):
    copy = folder / "data"
    shutil.copytree(kept, copy)
    with stage.Server(copy) as server:
        for one in sorted(s["id"] for s in server.get("/api/sets")):
            for state in server.get(f"/api/sets/{one}/history"):
                # Of a set without frames, as it was made, there is nothing to see.
                if state["parent"] is not None:
                    server.ask("POST", f"/api/sets/{one}/history/{state['seq']}")
                    state_of(server, one, f"set {one} state {state['seq']}")
    shutil.rmtree(copy)


if len(sys.argv) > 1:
    stage.EVANU = pathlib.Path(sys.argv[1]).resolve()
with tempfile.TemporaryDirectory() as scratch:
    if len(sys.argv) > 2:
        for kept in sys.argv[2:]:
            data_folder(pathlib.Path(scratch), pathlib.Path(kept))
    else:
        command_line(pathlib.Path(scratch))
