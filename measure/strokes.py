#!/usr/bin/env python3
"""Measures a stroke in the pages: frames a second while it is drawn, and the time from its end until the picture shows it.

Usage: measure/strokes.py WIDTH      (a set rendered or enlarged by measure/run.py; server, ChromeDriver and Chromium are started)
Prints frames a second and the longest time between two of them while a brush stroke of two seconds is drawn at 100 %, and
the milliseconds from letting go until every tile of the viewport is there, for four strokes.
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
PORT = 9791
COUNT = """
window.seen = []; window.ended = 0; window.shown = 0;
const plate = () => { const key = document.querySelector('[data-complete]')?.dataset.complete; return key?.includes('/plate') && key; };
let before = plate();
const tick = (t) => { seen.push(t); if (ended && !shown && plate() && plate() !== before) { shown = performance.now(); before = plate(); } requestAnimationFrame(tick); };
requestAnimationFrame(tick);
addEventListener('pointerdown', () => { seen.length = 0; ended = 0; shown = 0; }, true);
addEventListener('pointerup', () => { window.drawn = [...seen]; ended = performance.now(); }, true);
"""


def ask(address, method, path, body=None, kind="application/json"):
    data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
    request = urllib.request.Request(address + path, data=data, method=method, headers={"Content-Type": kind} if data else {})
    return urllib.request.urlopen(request, timeout=120).read()


def stroke(driver, left, top):
    """One stroke of two seconds: a hundred and twenty moves of a sixtieth each."""
    moves = [{"type": "pointerMove", "duration": 16, "x": left + 2 * k, "y": top + round(30 * ((k % 40) / 20 - 1))} for k in range(120)]
    actions = [{"type": "pointerMove", "duration": 0, "x": left, "y": top}, {"type": "pointerDown", "button": 0}, *moves, {"type": "pointerUp", "button": 0}]
    driver("POST", "/actions", {"actions": [{"type": "pointer", "id": "pen", "parameters": {"pointerType": "pen"}, "actions": actions}]})


with tempfile.TemporaryDirectory() as folder:
    server = subprocess.Popen([ROOT / "target/release/evanu", "serve", "--port", "0", "--data", folder], stdout=subprocess.PIPE, text=True)
    chrome = subprocess.Popen(["chromedriver", f"--port={PORT}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        base = re.search(r"http://\S+", server.stdout.readline()).group()
        one = json.loads(ask(base, "POST", "/api/sets", {"name": "strokes"}))["id"]
        for f in frames:
            mark = uuid.uuid4().hex
            head = f'--{mark}\r\nContent-Disposition: form-data; name="frames"; filename="{f.name}"\r\n\r\n'.encode()
            ask(base, "POST", f"/api/sets/{one}/frames", head + f.read_bytes() + f"\r\n--{mark}--\r\n".encode(), f"multipart/form-data; boundary={mark}")
        ask(base, "POST", f"/api/sets/{one}/prepare")
        while json.loads(ask(base, "GET", f"/api/sets/{one}"))["run"]["state"] not in ("done", "failed"):
            time.sleep(0.2)
        local = f"http://127.0.0.1:{PORT}"
        options = {"args": ["--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--window-size=1280,939"]}
        opened = json.loads(ask(local, "POST", "/session", {"capabilities": {"alwaysMatch": {"goog:chromeOptions": options}}}))["value"]
        session = f"/session/{opened['sessionId']}"
        driver = lambda method, path, body: json.loads(ask(local, method, session + path, body))["value"]
        js = lambda code: driver("POST", "/execute/sync", {"script": code, "args": []})

        def until(code):
            while not js(f"return !!({code})"):
                time.sleep(0.05)

        keys = lambda text: driver("POST", "/actions", {"actions": [{"type": "key", "id": "keys", "actions": [{"type": t, "value": k} for k in text for t in ("keyDown", "keyUp")]}]})
        for k in range(4):
            driver("POST", "/url", {"url": f"{base}/set/{one}"})
            until("document.querySelector('[data-complete*=\"/plate\"]')")
            keys("h")
            until("document.querySelector('[data-testid=zoom]').innerText === '100 %'")
            time.sleep(2)
            js(COUNT)
            # With a frame shown, a stroke takes from it at once.
            number = 2 + k
            keys(str(number))
            until(f"document.querySelector('[data-complete]')?.dataset.complete && document.querySelector('select[aria-label=Shown]').selectedOptions[0].text === 'Frame {number}'")
            keys("g")
            until(f"document.querySelector('[data-testid=drawing]')?.innerText.includes('take from frame {number}')")
            stroke(driver, 500, 130 + 120 * k)
            begin = time.monotonic()
            while not js("return shown") and time.monotonic() - begin < 10:
                time.sleep(0.02)
            gaps = js("return drawn.slice(1).map((t, k) => t - drawn[k])")
            rate, after = 1000 * len(gaps) / sum(gaps), js("return shown ? shown - ended : -1")
            print(f"stroke {k + 1}: {rate:.0f} frames a second, longest {max(gaps):.0f} ms, shown {after:.0f} ms after it ended")
            time.sleep(1)
        driver("DELETE", "", None)
    finally:
        chrome.terminate()
        server.terminate()
        chrome.wait()
        server.wait()
