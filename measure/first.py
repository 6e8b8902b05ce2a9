#!/usr/bin/env python3
"""Measures in the pages how soon a set is seen: from the last file's arrival until the plate is on the screen.

Usage: measure/first.py WIDTH      (a set rendered or enlarged by measure/run.py; server, ChromeDriver and Chromium are started)
A page of the empty set is open while the frames come in over HTTP. Prints seconds from the last file's arrival: until the plate is
complete in a 1280×800 window (by the median meanwhile), and until the consensus is, for three sets.
"""

import sys
import time

from stage import Page, Server, frames_of

frames = frames_of(sys.argv[1])
# Each plate that is complete on the screen, with its time and whether it is shown meanwhile.
WATCH = """
window.seen = []; window.came = 0;
setInterval(() => {
  const key = document.querySelector('[data-complete*="/plate"]')?.dataset.complete;
  if (!key || key === seen.at(-1)?.key) return;
  seen.push({ key, draft: document.body.innerText.includes('median shown'), at: performance.now() });
}, 25);
"""


# A server of its own for each: another set of the same files would find them read.
for turn in range(3):
    with Server() as server, Page() as page:
        one = server.new_set("first")
        page.go(f"{server.base}/set/{one}")
        page.js(WATCH)
        time.sleep(3)  # the page is at rest, as one is by the time somebody has chosen files
        server.bring(one, frames)
        page.js("came = performance.now()")
        server.ask("POST", f"/api/sets/{one}/prepare")
        time.sleep(15)
        seen, came = page.js("return seen"), page.js("return came")
        print(f"set {turn + 1}:", " ".join(f"{(p['at'] - came) / 1000:.1f}{' (median)' if p['draft'] else ''}" for p in seen))
