#!/usr/bin/env python3
"""Attacks a server as an accident or an enemy would, and says what it lost, let in or got wrong.

Usage: measure/attack.py [PART ...] [--times N]      (all parts; N kills, fillings, damages and rounds: 200)
Parts: kills (SIGKILL at random moments of all kinds of work), full (a disk that is full at every write; mounts a tmpfs, as root),
locked (another program holds the database), damage (random bytes in cache and originals), elsewhere (requests of other sites,
folders of the system), together (two and five clients at random acts), many (the list of 500 sets), lifts (one more over 990),
decoders (damaged files of every kind, or each --kind, --inputs each), api (requests that schemathesis makes up of the description).
Each prints a row of docs/measurements.md; a wrong answer, a loss or a hang ends with status 1.
"""

import argparse
import concurrent.futures
import contextlib
import json
import os
import pathlib
import random
import resource
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
import uuid

from stage import EVANU, ROOT, lift, running

FRAMES = sorted((ROOT / "crates/demo/samples/forecourt").glob("*.jpg"))
# As long as a page takes between two acts of a quick hand; without it the kills are of uploads alone, and of gigabytes.
PACE = 0.02
wrong = []


def note(what):
    wrong.append(what)
    print("WRONG:", what, flush=True)


class Server:
    """A server that may be killed and started again over one folder."""

    def __init__(self, folder, log=subprocess.DEVNULL):
        self.folder, self.log = pathlib.Path(folder), log

    def start(self):
        self.process = subprocess.Popen([EVANU, "serve", "--port", "0", "--data", self.folder], stdout=subprocess.PIPE, stderr=self.log, text=True)
        line = self.process.stdout.readline()
        if "http://" not in line:
            return False
        self.base = line.split("Evanu is at ")[1].split()[0]
        self.host = self.base.removeprefix("http://")
        return True

    def kill(self):
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()

    def stop(self):
        self.process.terminate()
        self.process.wait()

    def ask(self, method, path, body=None, kind="application/json", headers=None, timeout=60):
        """Status, what was answered and its headers; status 0 when the connection was cut, -1 when it hangs."""
        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        # Whatever came between, unless it is said.
        heads = {"If-Match": "*", **({"Content-Type": kind} if data else {}), **(headers or {})}
        request = urllib.request.Request(self.base + path, data=data, method=method, headers=heads)
        try:
            with urllib.request.urlopen(request, timeout=timeout) as answer:
                return answer.status, read(answer), dict(answer.headers)
        except urllib.error.HTTPError as e:
            return e.code, read(e), dict(e.headers)
        except (TimeoutError, socket.timeout):
            return -1, None, {}
        except (OSError, urllib.error.URLError) as e:
            return (-1 if "timed out" in str(e) else 0), None, {}
        except Exception:  # an answer that was cut within its head
            return 0, None, {}

    def get(self, path):
        return self.ask("GET", path)[1]

    def upload(self, one, files):
        mark = uuid.uuid4().hex
        parts = [f'--{mark}\r\nContent-Disposition: form-data; name="frames"; filename="{n}"\r\n\r\n'.encode() + b + b"\r\n" for n, b in files]
        return self.ask("POST", f"/api/sets/{one}/frames", b"".join(parts) + f"--{mark}--\r\n".encode(), f"multipart/form-data; boundary={mark}")[0]

    def new_set(self, name="attacked"):
        status, answer, _ = self.ask("POST", "/api/sets", {"name": name})
        return answer["id"] if status == 201 else None

    def wait(self, one, seconds=120):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            run = (self.get(f"/api/sets/{one}") or {}).get("run")
            if run and run["state"] in ("done", "failed", "cancelled"):
                return run
            time.sleep(0.03)
        note(f"set {one} did not come to rest in {seconds} s")
        return {"state": "running"}

    def ready(self, count=3, name="attacked"):
        one = self.new_set(name)
        self.upload(one, [(f.name, f.read_bytes()) for f in FRAMES[:count]])
        self.ask("POST", f"/api/sets/{one}/prepare")
        self.wait(one)
        return one

    def export(self, one):
        """The plate as a file, or the words of why there is none."""
        status, run, _ = self.ask("POST", f"/api/sets/{one}/exports", {"format": "png", "level": 0, "quality": 90})
        if status not in (200, 201, 202):
            return status, run
        end = self.wait(one)
        return (200, self.get(f"/api/runs/{run['id']}/file")) if end["state"] == "done" else (500, end)


def read(answer):
    data = answer.read()
    with contextlib.suppress(ValueError):
        return json.loads(data)
    return data


def labels(server, one):
    return [s["label"] for s in server.get(f"/api/sets/{one}/history") or []]


def act(server, rng, kept):
    """Something that a photographer does; what was answered is kept."""
    sets = list(kept)
    kind = rng.choice(["set", "upload", "prepare", "change", "change", "change", "change", "undo", "rename"] + ["export"] * (rng.random() < 0.2)) if sets else "set"
    one = rng.choice(sets) if sets else None
    label = f"act {rng.randrange(10**9)}"
    if kind == "set":
        if (made := server.new_set(label)) is not None:
            kept[made] = {"name": label, "frames": set(), "labels": []}
    elif kind == "upload" and len(kept[one]["frames"]) < 6:
        files = [(f"{label}-{k}.jpg", f.read_bytes() + rng.randbytes(4)) for k, f in enumerate(rng.sample(FRAMES, 2))]
        if server.upload(one, files) == 204:
            kept[one]["frames"] |= {n for n, _ in files}
    elif kind == "prepare":
        server.ask("POST", f"/api/sets/{one}/prepare")
    elif kind == "change":
        part = {"method": rng.choice(["mean", "median", "consensus"]), "canvas": rng.choice(["reference", "common"])}
        if server.ask("PATCH", f"/api/sets/{one}/recipe", {"label": label, "recipe": part})[0] == 200:
            kept[one]["labels"].append(label)
    elif kind == "undo":
        server.ask("POST", f"/api/sets/{one}/undo")
    elif kind == "rename":
        status = server.ask("PUT", f"/api/sets/{one}/name", {"name": label})[0]
        # One that was cut off may have been done.
        kept[one]["name"] = label if status < 300 and status > 0 else {label, *(kept[one]["name"] if isinstance(kept[one]["name"], set) else {kept[one]["name"]})}
    else:
        server.ask("POST", f"/api/sets/{one}/exports", {"format": "jpeg", "level": 1, "quality": 80})


def lost(server, kept):
    """What was answered and is not there; from the database, because a page that opens a set weighs its frames first."""
    count = 0
    with contextlib.closing(sqlite3.connect(f"file:{server.folder}/evanu.sqlite?mode=ro", uri=True)) as db:
        for one, known in kept.items():
            name = db.execute("SELECT name FROM sets WHERE id = ? AND deleted IS NULL", [one]).fetchone()
            names = known["name"] if isinstance(known["name"], set) else {known["name"]}
            frames = {n for (n,) in db.execute("SELECT name FROM frames WHERE set_id = ? AND state <> 'failed' AND key IS NOT NULL", [one])}
            acts = {n for (n,) in db.execute("SELECT label FROM recipes WHERE set_id = ?", [one])}
            missing, gone = known["frames"] - frames, set(known["labels"]) - acts
            if name is None or name[0] not in names or missing or gone:
                note(f"set {one}: lost {missing or gone or names}, {name}")
                count += 1
    return count


def sound(folder):
    with contextlib.closing(sqlite3.connect(folder / "evanu.sqlite")) as db:
        return db.execute("PRAGMA integrity_check").fetchone()[0]


def forget(server):
    """Lets the deleted sets be swept at the next start."""
    with contextlib.closing(sqlite3.connect(server.folder / "evanu.sqlite", timeout=10)) as db, db:
        db.execute("UPDATE sets SET deleted = 1 WHERE deleted IS NOT NULL")


def kills(times):
    rng, acts, losses = random.Random(1), 0, 0
    with tempfile.TemporaryDirectory() as folder:
        kept, server = {}, Server(folder)
        for _ in range(times):
            if not server.start():
                note("it does not start again after a kill")
                break
            losses += lost(server, kept)
            if len(kept) > 6:
                # As an owner does; what was deleted is kept for thirty days, which this attack has no room for.
                server.ask("DELETE", f"/api/sets/{next(iter(kept))}")
                kept.pop(next(iter(kept)))
                forget(server)
            stop = time.monotonic() + rng.uniform(0.02, 1.5)
            killer = concurrent.futures.ThreadPoolExecutor(1).submit(lambda: (time.sleep(max(0, stop - time.monotonic())), server.kill()))
            while not killer.done():
                act(server, rng, kept)
                acts += 1
                time.sleep(PACE)
        if not server.start():
            note("it does not start again after the last kill")
        losses += lost(server, kept)
        for one in kept:
            if kept[one]["frames"]:
                server.ask("POST", f"/api/sets/{one}/prepare")
                if (run := server.wait(one, 600))["state"] != "done":
                    note(f"set {one} does not come to an end: {run}")
        server.stop()
        state = sound(pathlib.Path(folder))
        if state != "ok":
            note(f"database: {state}")
        # A start sweeps.
        server.start()
        left = [str(p) for p in pathlib.Path(folder).rglob(".*")]
        server.stop()
        if left:
            note(f"files left: {left[:3]}")
        print(f"| kills | {times} kills among {acts} acts: {losses} acknowledged acts lost, {len(left)} files left, database {state} |")


def full(times):
    rng, told, done, cut = random.Random(2), 0, 0, 0
    with tempfile.TemporaryDirectory() as mount:
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=200m", "tmpfs", mount], check=True)
        try:
            folder = pathlib.Path(mount) / "data"
            with open(pathlib.Path(mount) / "log", "w") as log:
                server = Server(folder, log)
                server.start()
                one = server.ready()
                kept = {one: {"name": "attacked", "frames": set(), "labels": []}}
                filler = pathlib.Path(mount) / "filler"
                for k in range(times):
                    free = os.statvfs(mount).f_bavail * os.statvfs(mount).f_frsize
                    with contextlib.suppress(OSError), open(filler, "wb") as f:
                        f.write(b"1" * max(0, free - rng.choice([0, 4096, 8192, 16384, 65536, 262144, 524288])))
                    label = f"full {k}"
                    kind = rng.choice(["change", "upload", "export", "rename", "set"])
                    if kind == "change":
                        part = {"method": rng.choice(["mean", "median"])}
                        status, words, _ = server.ask("PATCH", f"/api/sets/{one}/recipe", {"label": label, "recipe": part})
                        kept[one]["labels"] += [label] * (status == 200)
                    elif kind == "upload":
                        files = [(f"{label}.jpg", FRAMES[5].read_bytes() + rng.randbytes(4))]
                        status, words = server.upload(one, files), ""
                        kept[one]["frames"] |= {n for n, _ in files} if status == 204 else set()
                    elif kind == "rename":
                        status, words, _ = server.ask("PUT", f"/api/sets/{one}/name", {"name": label})
                        kept[one]["name"] = label if status in (200, 204) else kept[one]["name"]
                    elif kind == "set":
                        status, words, _ = server.ask("POST", "/api/sets", {"name": label})
                        if status == 201:
                            server.ask("DELETE", f"/api/sets/{words['id']}")
                    else:
                        status, words, _ = server.ask("POST", f"/api/sets/{one}/exports", {"format": "png", "level": 0, "quality": 90})
                    cut += status in (0, -1)
                    told += status == 507
                    done += 200 <= status < 300
                    if status in (0, -1) or status >= 400 and status != 507:
                        note(f"{kind} on a full disk: {status} {words}")
                    if kind == "export":
                        time.sleep(0.5)
                    with contextlib.suppress(OSError):
                        filler.unlink()
                    # What was promised is done, or told, as soon as there is room again.
                    if kind == "export" and 0 < status < 300:
                        end = server.wait(one, 60)
                        if end["state"] == "failed" and "full" not in end["message"]:
                            note(f"an export on a full disk says: {end['message']}")
                    for old in (folder / "exports").glob("*/*"):
                        old.unlink()
                losses = lost(server, kept)
                server.stop()
                server.start()
                losses += lost(server, kept)
                server.stop()
                state = sound(folder)
                if state != "ok":
                    note(f"database: {state}")
        finally:
            subprocess.run(["umount", mount], check=False)
    print(f"| full | {times} acts on a disk with 0 to 512 KB left: {done} done, {told} answered 507, {cut} without an answer, {losses} lost |")


def locked(times):
    slowest, refused = 0, 0
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        server.start()
        one = server.ready()
        server.get(f"/api/sets/{one}")
        other = sqlite3.connect(pathlib.Path(folder) / "evanu.sqlite", isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        with concurrent.futures.ThreadPoolExecutor(1) as pool:
            change = pool.submit(server.ask, "PATCH", f"/api/sets/{one}/recipe", {"label": "held", "recipe": {"method": "mean"}})
            while not change.done():
                begin = time.monotonic()
                if server.ask("GET", f"/api/sets/{one}")[0] != 200:
                    note("reading fails while the database is held")
                slowest = max(slowest, time.monotonic() - begin)
            refused = change.result()[0]
        # A run that ends meanwhile is known to have ended.
        run = server.ask("POST", f"/api/sets/{one}/exports", {"format": "jpeg", "level": 1, "quality": 80})[0]
        other.execute("COMMIT")
        if refused != 503:
            note(f"a change while the database is held: {refused}")
        server.stop()
    if slowest > 1:
        note(f"reading waited {slowest:.1f} s")
    print(f"| locked | a change is answered {refused} after 5 s, an export {run}; reading meanwhile took at most {1000 * slowest:.0f} ms |")


def damage(times):
    rng, differ, failed = random.Random(3), 0, 0
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        server.start()
        one = server.ready()
        _, plate = server.export(one)
        for k in range(times):
            for path in (pathlib.Path(folder) / "cache/pyramids").glob("*"):
                data = bytearray(path.read_bytes())
                if rng.random() < 0.2:
                    del data[rng.randrange(len(data)) :]
                else:
                    for _ in range(rng.randrange(1, 60)):
                        data[rng.randrange(len(data))] ^= rng.randrange(1, 256)
                with open(path, "r+b") as f:
                    f.write(data)
                    f.truncate(len(data))
            if k % 10 == 9:
                server.kill()
                server.start()
            status, again = server.export(one)
            failed += status != 200
            differ += status == 200 and again != plate
        # The original too: then the plate is refused in words, until the file comes in again.
        for path in [*(pathlib.Path(folder) / "cache/pyramids").glob("*"), *(pathlib.Path(folder) / "originals").glob("*")]:
            path.write_bytes(rng.randbytes(5000))
        status, words = server.export(one)
        if status == 200 and words != plate:
            note("a damaged original is shown")
        server.upload(one, [(f.name, f.read_bytes()) for f in FRAMES[:3]])
        server.ask("POST", f"/api/sets/{one}/prepare")
        server.wait(one)
        if server.export(one) != (200, plate):
            note("a damaged original is not mended by bringing it in again")
        server.stop()
    if differ or failed:
        note(f"damage: {differ} other plates, {failed} failures")
    print(f"| damage | {times} times random bytes or cuts in every pyramid: {differ} other plates, {failed} failures |")


def elsewhere(times):
    asked, let = 0, 0
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        server.start()
        one = server.ready()
        for heads in [
            {"Origin": "http://elsewhere.example"}, {"Origin": "null"}, {"Referer": "http://elsewhere.example/"},
            {"Sec-Fetch-Site": "cross-site"}, {"Sec-Fetch-Site": "same-site"}, {"Host": "elsewhere.example"},
            {"Host": f"elsewhere.example:{server.host.split(':')[1]}"}, {"Host": server.host + ".elsewhere.example"}, {"Host": ""},
        ]:
            for method, path, body in [("POST", "/api/sets", {"name": "x"}), ("GET", "/api/sets", None), ("GET", f"/api/sets/{one}/cover?side=100", None), ("DELETE", f"/api/sets/{one}", None)]:
                asked += 1
                status = server.ask(method, path, body, headers=heads)[0]
                if status not in (400, 403):
                    let += 1
                    note(f"{method} {path} with {heads}: {status}")
        if server.ask("GET", f"/api/sets/{one}/cover?side=100")[2].get("cross-origin-resource-policy") != "same-origin":
            note("a picture may be embedded elsewhere")
        for system in ["/proc", "/proc/1", "/sys", "/sys/kernel", "/dev", "/dev/pts"]:
            for method, path, body in [("GET", f"/api/folders?path={system}", None), ("POST", f"/api/sets/{one}/folder", {"path": system}), ("POST", f"/api/sets/{one}/relink", {"path": system})]:
                asked += 1
                begin = time.monotonic()
                status = server.ask(method, path, body)[0]
                if status != 422 or time.monotonic() - begin > 2:
                    let += 1
                    note(f"{method} {path} of {system}: {status} in {time.monotonic() - begin:.1f} s")
        server.stop()
    print(f"| elsewhere | {asked} requests of other sites and for folders of the system: {let} let in |")


def together(times):
    for clients in (2, 5):
        with tempfile.TemporaryDirectory() as folder:
            server = Server(folder)
            server.start()
            one = server.ready()
            before = len(labels(server, one))

            def client(number, server=server, one=one):
                rng, done = random.Random(number), []
                for k in range(times // clients):
                    seen = server.get(f"/api/sets/{one}")["revision"]
                    body = {"label": f"{number}-{k}", "recipe": {"method": rng.choice(["mean", "median"]), "canvas": rng.choice(["reference", "common"])}}
                    status, now, _ = server.ask("PATCH", f"/api/sets/{one}/recipe", body, headers={"If-Match": f'"{seen}"'})
                    if status == 200:
                        done.append((seen, body))
                    elif status != 412:
                        note(f"{clients} clients: a change is answered {status}")
                return done

            with concurrent.futures.ThreadPoolExecutor(clients) as pool:
                acts = sorted((a for done in pool.map(client, range(clients)) for a in done), key=lambda a: a[0])
            # One after another: each follows from what the one before made, and the last one is in force.
            follow = all(a[0] + 1 == b[0] for a, b in zip(acts, acts[1:]))
            if not follow or len(labels(server, one)) - before != len(acts):
                note(f"{clients} clients: {len(acts)} acts do not follow each other")
            recipe = server.get(f"/api/sets/{one}")["recipe"]
            if any(recipe[k] != v for k, v in acts[-1][1]["recipe"].items()):
                note(f"{clients} clients: what was done last is not in force")
            server.stop()
            print(f"| together | {clients} clients, {times} changes: {len(acts)} done one after another, {times // clients * clients - len(acts)} told that they follow from an older state |")


def many(times):
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        server.start()
        one = server.ready()
        for _ in range(499):
            server.ask("POST", f"/api/sets/{one}/duplicate")
        end = time.monotonic() + 600
        while any(s["cover"] is None for s in server.get("/api/sets")) and time.monotonic() < end:
            time.sleep(1)
        server.stop()
        server.start()
        begin = time.monotonic()
        sets = server.get("/api/sets")
        first = time.monotonic() - begin
        server.stop()
        missing = sum(s["cover"] is None for s in sets)
    if first > 0.3 or missing:
        note(f"the list of {len(sets)} sets took {first:.2f} s, {missing} without a picture")
    print(f"| many | the first list of {len(sets)} sets after a start: {1000 * first:.0f} ms, {missing} without a picture |")


def lifts(times):
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        server.start()
        one = server.ready()
        state = server.get(f"/api/sets/{one}")
        width, height = state["reference_size"]
        spent = []
        for count in (990, 991, 992):
            laid = [lift(k, width * (0.03 + 0.94 * (k * 37 % 100) / 100), height * (0.03 + 0.94 * (k * 53 % 97) / 97), 12, state) for k in range(count)]
            whole = {"feather": 4, "snap_to_edges": False, "exclude_introduced": False, "strength": 1, "disabled": False}
            before = processor(server)
            status, words, _ = server.ask("PATCH", f"/api/sets/{one}/recipe", {"label": "lay", "recipe": {"patches": [{**p, **whole} for p in laid]}})
            if status != 200:
                note(f"{count} lifts: {status} {words}")
            server.ask("GET", f"/api/sets/{one}/cover?side=300")
            time.sleep(1)
            spent.append(processor(server) - before)
        server.stop()
    print(f"| lifts | 990 lifts {spent[0]:.1f} s of processor, one more {max(spent[1:]):.2f} s |")


def processor(server):
    fields = pathlib.Path(f"/proc/{server.process.pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def decoders(times):
    subprocess.run(["cargo", "build", "--release", "--quiet", "--locked", "--workspace", "--example", "damaged"], cwd=ROOT, check=True)
    program = ROOT / "target/release/examples/damaged"
    kinds = subprocess.run([program], capture_output=True, text=True, check=True).stdout.split()

    def confined():
        # As crates/media/src/reader/confine.rs for a small file.
        resource.setrlimit(resource.RLIMIT_DATA, (900 << 20, 900 << 20))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))

    def attacked(kind):
        """One kind, gone on with after each input that ended the program; a batch that takes too long for all its inputs hangs."""
        at, ends, panics, slow, most, read = 0, {}, 0, 0, 0, 0
        with tempfile.NamedTemporaryFile() as place:
            while at < INPUTS:
                to = min(at + 10_000, INPUTS)
                command = [program, kind, str(at), str(to), place.name]
                try:
                    run = subprocess.run(command, capture_output=True, text=True, preexec_fn=confined, timeout=3000, env={"RAYON_NUM_THREADS": "2"})
                except subprocess.TimeoutExpired:
                    note(f"{kind}: hangs at {pathlib.Path(place.name).read_text()}")
                    at, slow = int(pathlib.Path(place.name).read_text()) + 1, slow + 1
                    continue
                if run.returncode == 0:
                    said = json.loads(run.stdout)
                    read, panics, slow, most, at = read + said["read"], panics + said["panics"], slow + said["slow"], max(most, said["peak_mb"]), to
                    continue
                why = "memory" if "memory allocation" in run.stderr or "bad_alloc" in run.stderr else f"signal {-run.returncode}"
                ends[why] = ends.get(why, 0) + 1
                at = int(pathlib.Path(place.name).read_text()) + 1
        if slow:
            note(f"{kind}: {slow} inputs took longer than 10 s")
        told = ", ".join(f"{n} by {why}" for why, n in ends.items()) or "0"
        return f"| {kind} | {INPUTS} | {read} | {panics} | {told} | {slow} | {most} MB |"

    print("| kind | damaged inputs | still a picture | refused after a panic | ended what decodes | longer than 10 s | most memory |")
    with concurrent.futures.ThreadPoolExecutor(2) as pool:
        for row in concurrent.futures.as_completed([pool.submit(attacked, kind) for kind in KINDS or kinds]):
            print(row.result(), flush=True)


def api(times):
    home = ROOT / ".measure/attack"
    if not (home / "bin/schemathesis").exists():
        subprocess.run([sys.executable, "-m", "venv", home], check=True)
        subprocess.run([home / "bin/pip", "install", "--quiet", "schemathesis"], check=True)
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        server.start()
        server.ready()
        description = home / "openapi.json"
        description.write_bytes(subprocess.run([EVANU, "openapi"], capture_output=True, check=True).stdout)
        command = [home / "bin/schemathesis", "run", description, "--url", server.base, "--checks", "not_a_server_error", "--max-examples", str(times), "--exclude-path", "/api/events"]
        run = subprocess.run(command, capture_output=True, text=True, cwd=home)
        if server.ask("GET", "/api/sets")[0] != 200:
            note("the server does not answer any more")
        server.stop()
    told = [line for line in run.stdout.splitlines() if "generated" in line or "passed" in line or "Server error" in line]
    if run.returncode:
        note(f"schemathesis: {run.stdout[-3000:]}")
    print(f"| api | {'; '.join(told)} |")


PARTS = [kills, full, locked, damage, elsewhere, together, many, lifts, decoders, api]

if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("parts", nargs="*", choices=[[], *(p.__name__ for p in PARTS)])
    parser.add_argument("--times", type=int, default=200)
    parser.add_argument("--inputs", type=int, default=1_000_000)
    parser.add_argument("--kind", action="append", default=[])
    options = parser.parse_args()
    INPUTS, KINDS = options.inputs, options.kind
    for part in PARTS:
        if not options.parts or part.__name__ in options.parts:
            part(options.times)
    sys.exit(1 if wrong else 0)
