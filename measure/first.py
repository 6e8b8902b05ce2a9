#!/usr/bin/env python3
"""Measures in the pages how soon a set is seen: from the last file's arrival until the plate is on the screen.

Usage: measure/first.py WIDTH      (a set rendered or enlarged by measure/run.py; server, ChromeDriver and Chromium are started)
A page of the empty set is open while the frames come in over HTTP. Prints seconds from the last file's arrival: until the plate is
complete in a 1280×800 window (by the median meanwhile), and until the consensus is, for three sets.
"""

import json
import pathlib
import re
import subprocess
import sys
import tempfile
import time
import urllib.request
import uuid

ROOT = pathlib.Path(__file__).resolve().parent.parent
frames = next(f for kind in ("forecourt", "enlarged") if (f := sorted((ROOT / f".measure/{kind}-{sys.argv[1]}").glob("*.jpg"))))
PORT = 9792
# Each plate that is complete on the screen, with its time and whether it is shown meanwhile.
WATCH = """
window.seen = []; window.came = 0;
setInterval(() => {
  const key = document.querySelector('[data-complete*="/plate"]')?.dataset.complete;
  if (!key || key === seen.at(-1)?.key) return;
  seen.push({ key, draft: document.body.innerText.includes('median shown'), at: performance.now() });
}, 25);
"""


def ask(address, method, path, body=None, kind="application/json"):
    data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
    request = urllib.request.Request(address + path, data=data, method=method, headers={"Content-Type": kind} if data else {})
    return urllib.request.urlopen(request, timeout=120).read()


with tempfile.TemporaryDirectory() as folder:
    server = subprocess.Popen([ROOT / "target/release/evanu", "serve", "--port", "0", "--data", folder], stdout=subprocess.PIPE, text=True)
    chrome = subprocess.Popen(["chromedriver", f"--port={PORT}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        base = re.search(r"http://\S+", server.stdout.readline()).group()
        time.sleep(1)
        local = f"http://127.0.0.1:{PORT}"
        options = {"args": ["--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--window-size=1280,939"]}
        opened = json.loads(ask(local, "POST", "/session", {"capabilities": {"alwaysMatch": {"goog:chromeOptions": options}}}))["value"]
        session = f"/session/{opened['sessionId']}"
        driver = lambda method, path, body: json.loads(ask(local, method, session + path, body))["value"]
        js = lambda code: driver("POST", "/execute/sync", {"script": code, "args": []})
        for turn in range(3):
            one = json.loads(ask(base, "POST", "/api/sets", {"name": f"first {turn}"}))["id"]
            driver("POST", "/url", {"url": f"{base}/set/{one}"})
            js(WATCH)
            for f in frames:
                mark = uuid.uuid4().hex
                head = f'--{mark}\r\nContent-Disposition: form-data; name="frames"; filename="{f.name}"\r\n\r\n'.encode()
                ask(base, "POST", f"/api/sets/{one}/frames", head + f.read_bytes() + f"\r\n--{mark}--\r\n".encode(), f"multipart/form-data; boundary={mark}")
            js("came = performance.now()")
            ask(base, "POST", f"/api/sets/{one}/prepare")
            time.sleep(20)
            print(f"set {turn + 1}:", " ".join(f"{(p['at'] - js('return came')) / 1000:.1f}{' (median)' if p['draft'] else ''}" for p in js("return seen")))
        driver("DELETE", "", None)
    finally:
        chrome.terminate()
        server.terminate()
        chrome.wait()
        server.wait()
