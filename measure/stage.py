"""What the measurements in the pages and over HTTP share: a server of its own, frames that are brought in, and a page of Chromium."""

import contextlib
import json
import os
import pathlib
import re
import subprocess
import tempfile
import time
import urllib.error
import urllib.request
import uuid

ROOT = pathlib.Path(__file__).resolve().parent.parent
EVANU = pathlib.Path(os.environ.get("EVANU", ROOT / "target/release/evanu"))


def frames_of(width):
    """The files of a set that measure/run.py rendered or enlarged."""
    return next(f for kind in ("forecourt", "enlarged") if (f := sorted((ROOT / f".measure/{kind}-{width}").glob("*.jpg"))))


def call(address, method, path, body=None, kind="application/json"):
    data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
    # Whatever came between: nobody else is at it.
    headers = {"If-Match": "*", **({"Content-Type": kind} if data else {})}
    request = urllib.request.Request(address + path, data=data, method=method, headers=headers)
    return urllib.request.urlopen(request, timeout=120).read()


def loop(x, y, side):
    """A loop around a place, so far to each side."""
    return [{"x": x + side * dx, "y": y + side * dy} for dx, dy in ((0, -1), (0.7, -0.7), (1, 0), (0.7, 0.7), (0, 1), (-0.7, 0.7), (-1, 0), (-0.7, -0.7))]


def lift(k, x, y, side, set):
    """The same taken from a frame as the pages lay it; k counts through the frames."""
    frame = set["frames"][k % len(set["frames"])]["id"]
    return {"on": set["reference"], "outline": loop(x, y, side), "source": {"frame": frame}, "optimal_seam": True, "tone": True, "grain": True}


@contextlib.contextmanager
def running(command, **options):
    process = subprocess.Popen(command, **options)
    try:
        yield process
    finally:
        process.terminate()
        process.wait()


class Server:
    """A server over a data folder, of its own without one; as a context."""

    def __init__(self, folder=None):
        self.folder = folder

    def __enter__(self):
        self.stack = contextlib.ExitStack()
        folder = self.folder or self.stack.enter_context(tempfile.TemporaryDirectory())
        self.process = self.stack.enter_context(running([EVANU, "serve", "--port", "0", "--data", folder], stdout=subprocess.PIPE, text=True))
        self.base = re.search(r"http://\S+", self.process.stdout.readline()).group()
        return self

    def __exit__(self, *why):
        self.stack.close()

    def ask(self, method, path, body=None, kind="application/json"):
        return call(self.base, method, path, body, kind)

    def get(self, path):
        return json.loads(self.ask("GET", path))

    def memory(self):
        """The most memory that the server has held, in megabytes."""
        status = pathlib.Path(f"/proc/{self.process.pid}/status").read_text()
        return int(re.search(r"VmHWM:\s+(\d+)", status).group(1)) // 1024

    def new_set(self, name):
        return json.loads(self.ask("POST", "/api/sets", {"name": name}))["id"]

    def bring(self, one, frames):
        """Brings frames into a set, one after another."""
        for f in frames:
            mark = uuid.uuid4().hex
            head = f'--{mark}\r\nContent-Disposition: form-data; name="frames"; filename="{f.name}"\r\n\r\n'.encode()
            self.ask("POST", f"/api/sets/{one}/frames", head + f.read_bytes() + f"\r\n--{mark}--\r\n".encode(), f"multipart/form-data; boundary={mark}")

    def wait(self, one, until=lambda set: set["run"]["state"] in ("done", "failed")):
        """The set, once something holds for it."""
        while not until(set := self.get(f"/api/sets/{one}")):
            time.sleep(0.02)
        return set


class Page:
    """A window of 1280×800 in headless Chromium; as a context."""

    PORT = 9791

    def __enter__(self):
        self.stack = contextlib.ExitStack()
        self.stack.enter_context(running(["chromedriver", f"--port={self.PORT}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
        time.sleep(1)
        options = {"args": ["--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--window-size=1280,939"]}
        self.session = ""
        opened = self.driver("POST", "/session", {"capabilities": {"alwaysMatch": {"goog:chromeOptions": options}}})
        self.session = f"/session/{opened['sessionId']}"
        self.stack.callback(self.driver, "DELETE", "", None)
        return self

    def __exit__(self, *why):
        self.stack.close()

    def driver(self, method, path, body):
        return json.loads(call(f"http://127.0.0.1:{self.PORT}", method, self.session + path, body))["value"]

    def go(self, address):
        self.driver("POST", "/url", {"url": address})

    def js(self, code):
        return self.driver("POST", "/execute/sync", {"script": code, "args": []})

    def until(self, code):
        while not self.js(f"return !!({code})"):
            time.sleep(0.05)

    def keys(self, text):
        strokes = [{"type": t, "value": k} for k in text for t in ("keyDown", "keyUp")]
        self.driver("POST", "/actions", {"actions": [{"type": "key", "id": "keys", "actions": strokes}]})
