#!/usr/bin/env python3
"""Measures a stroke in the pages: frames a second while it is drawn, and the time from its end until the picture shows it.

Usage: measure/strokes.py WIDTH [LIFTS|copy]      (a set rendered or enlarged by measure/run.py; server, ChromeDriver and Chromium are started)
Prints frames a second and the longest time between two of them while a brush stroke of two seconds is drawn at 100 %, and
the milliseconds from letting go until every tile of the viewport is there, for four strokes; with so many LIFTS on the plate before, or by the copying brush instead of from a frame.
First the pace of the machine, which others may use too: the milliseconds in which it counts to two million, the middle of three.
"""

import sys
import time

from stage import Page, Server, frames_of, lift

copies = sys.argv[2:] == ["copy"]
lifts = int(sys.argv[2]) if len(sys.argv) > 2 and not copies else 0

COUNT = """
window.seen = []; window.ended = 0; window.shown = 0;
const plate = () => { const key = document.querySelector('[data-complete]')?.dataset.complete; return key?.includes('/plate') && key; };
let before = plate();
// The plate is there when what was drawn is off it, too.
const tick = (t) => { seen.push(t); if (ended && !shown && plate() && plate() !== before && !document.querySelector('[data-testid=stroke]')) { shown = performance.now(); before = plate(); } requestAnimationFrame(tick); };
requestAnimationFrame(tick);
addEventListener('pointerdown', () => { seen.length = 0; ended = 0; shown = 0; }, true);
addEventListener('pointerup', () => { window.drawn = [...seen]; ended = performance.now(); }, true);
"""


def pace():
    """Milliseconds in which this machine counts to two million."""
    begin = time.perf_counter()
    for _ in range(2_000_000):
        pass
    return 1000 * (time.perf_counter() - begin)


def stroke(page, left, top):
    """One stroke of two seconds: a hundred and twenty moves of a sixtieth each."""
    moves = [{"type": "pointerMove", "duration": 16, "x": left + 2 * k, "y": top + round(30 * ((k % 40) / 20 - 1))} for k in range(120)]
    actions = [{"type": "pointerMove", "duration": 0, "x": left, "y": top}, {"type": "pointerDown", "button": 0}, *moves, {"type": "pointerUp", "button": 0}]
    page.driver("POST", "/actions", {"actions": [{"type": "pointer", "id": "pen", "parameters": {"pointerType": "pen"}, "actions": actions}]})


def gesture(page, start, end):
    """A press, a move and a release."""
    point = lambda at, spent: {"type": "pointerMove", "duration": spent, "x": at[0], "y": at[1]}  # noqa: E731
    actions = [point(start, 0), {"type": "pointerDown", "button": 0}, point(end, 100), {"type": "pointerUp", "button": 0}]
    page.driver("POST", "/actions", {"actions": [{"type": "pointer", "id": "pen", "parameters": {"pointerType": "pen"}, "actions": actions}]})


print(f"pace {sorted(pace() for _ in range(3))[1]:.0f} ms")
with Server() as server, Page() as page:
    one = server.new_set("strokes")
    server.bring(one, frames_of(sys.argv[1]))
    server.ask("POST", f"/api/sets/{one}/prepare")
    size = (now := server.wait(one))["canvas"]
    patches = [lift(k, size["width"] * (0.05 + 0.1 * (k % 10)), size["height"] * (0.05 + 0.1 * (k // 10)), size["width"] / 40, now) for k in range(lifts)]
    server.ask("PATCH", f"/api/sets/{one}/recipe", {"label": "many lifts", "recipe": {"patches": patches}})
    server.wait(one, lambda set: set["tile_names"])
    for k in range(4):
        page.go(f"{server.base}/set/{one}")
        page.until("document.querySelector('[data-complete*=\"/plate\"]')")
        page.keys("h")
        page.until("document.querySelector('[data-testid=zoom]').innerText === '100 %'")
        time.sleep(2)
        page.js(COUNT)
        if copies:
            page.js("document.querySelector('[data-line=retouch]').click()")
            page.until("[...document.querySelectorAll('button')].some((b) => b.innerText === 'Copy by brush')")
            page.js("[...document.querySelectorAll('button')].find((b) => b.innerText === 'Copy by brush').click()")
            page.until("document.querySelector('[data-testid=copy-brush]')")
            # From below to where the stroke begins.
            gesture(page, (500, 260 + 60 * k), (500, 130 + 60 * k))
            page.until("document.querySelector('[data-testid=copy-brush]').innerText.startsWith('Brush')")
        else:
            # With a frame shown, a stroke takes from it at once.
            number = 2 + k
            page.keys(str(number))
            page.until(f"document.querySelector('[data-complete]')?.dataset.complete && document.querySelector('select[aria-label=Shown]').selectedOptions[0].text === 'Frame {number}'")
            page.keys("g")
            page.until(f"document.querySelector('[data-testid=drawing]')?.innerText.includes('take from frame {number}')")
        stroke(page, 500, 130 + (60 if copies else 120) * k)
        begin = time.monotonic()
        while not page.js("return shown") and time.monotonic() - begin < 10:
            time.sleep(0.25)
        gaps = page.js("return drawn.slice(1).map((t, k) => t - drawn[k])")
        rate, after = 1000 * len(gaps) / sum(gaps), page.js("return shown ? shown - ended : -1")
        print(f"stroke {k + 1}: {rate:.0f} frames a second, longest {max(gaps):.0f} ms, shown {after:.0f} ms after it ended")
        time.sleep(1)
