"""The console at its largest: 100,000 items in one bundle, and 2,000 steps that move.

Measured in headless Chromium against the real service with two processes. The bundle: from the
request for the page of an ended run until its counts are shown, from the click until its items are,
and from the request for its Time and its log until both are drawn; in turn with a run of ten items.
The steps: the times between frames while the run moves, with all of its graph in view and from
near, and after it has ended, when nothing moves. The program of the console is loaded before, as
for a user who has the console open.
"""

from __future__ import annotations

import re
import shutil
import time
from dataclasses import dataclass, field
from statistics import median

from playwright.sync_api import Page, sync_playwright

from bench.looms import LENGTH, STRANDS
from bench.running import service, warm_up
from yarnloom import Client

FEW, MANY = 10, 100_000
STEPS = STRANDS * LENGTH
ROUNDS = 7
VIEWS = {"time": "[data-testid=time] [data-dye=running]", "log": "[role=log] button"}
"""The last thing to be drawn in each view of a run."""

ARGUMENTS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-sync"]
_FRAMES = """(milliseconds) => new Promise((resolve) => {
  const times = [];
  const begin = performance.now();
  const next = (now) => {
    times.push(now);
    if (now - begin < milliseconds) requestAnimationFrame(next);
    else resolve(times.slice(1).map((one, index) => one - times[index]));
  };
  requestAnimationFrame(next);
})"""


Opened = dict[str, float]
"""Seconds by the part of a page."""


@dataclass
class Found:
    """What was measured, in seconds.

    Attributes:
        few: by name how long each part of the page took, of a run of ten items.
        many: the same of 100,000.
        whole: times between frames while 2,000 steps move, all in view.
        near: the same from near.
        still: the same when nothing moves.
    """

    few: list[Opened] = field(default_factory=list)
    many: list[Opened] = field(default_factory=list)
    whole: list[float] = field(default_factory=list)
    near: list[float] = field(default_factory=list)
    still: list[float] = field(default_factory=list)


def open_bundle(page: Page, url: str, run: int, items: int) -> Opened:
    """How long it takes until each part of the page of a run is shown."""
    page.goto(f"{url}/workers")
    begun = time.perf_counter()
    page.goto(f"{url}/runs/{run}")
    page.get_by_text(re.compile(f"{items:,} of {items:,} done")).first.wait_for()
    shown = time.perf_counter()
    page.get_by_label("each all", exact=True).click(position={"x": 60, "y": 12})
    page.locator("[data-testid=items] tbody tr").nth(9).wait_for()
    opened = {"page": shown - begun, "items": time.perf_counter() - shown}
    for view, drawn in VIEWS.items():
        page.goto(f"{url}/workers")
        begun = time.perf_counter()
        page.goto(f"{url}/runs/{run}?view={view}")
        page.locator(drawn).first.wait_for()
        opened[view] = time.perf_counter() - begun
    return opened


def measure() -> Found:
    """Everything."""
    found = Found()
    chromium = shutil.which("chromium") or "/usr/bin/chromium"
    with service("--processes", "2") as url, Client(url) as client, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=chromium, args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        warm_up(url)
        few, many = (client.start("bundle", number=count) for count in (FEW, MANY))
        few.wait(60)
        many.wait(600)
        for _ in range(ROUNDS):
            found.few.append(open_bundle(page, url, few.number, FEW))
            found.many.append(open_bundle(page, url, many.number, MANY))
        broad = client.start("broad", number=1)
        page.goto(f"{url}/runs/{broad.number}")
        page.get_by_label("each all/strand-0 and alike").click(position={"x": 20, "y": 10})
        page.get_by_role("button", name="fit the graph into the frame").click()
        page.wait_for_timeout(500)
        picture = page.get_by_label(re.compile(f"graph of {STEPS} steps"))
        found.whole = frames(page)
        picture.locator("canvas").click()
        page.locator(".react-flow__node-step").first.wait_for()
        page.wait_for_timeout(500)
        found.near = frames(page)
        assert broad.refresh().state == "running"
        broad.wait(120)
        page.wait_for_timeout(1_000)
        found.still = frames(page)
        browser.close()
    return found


def frames(page: Page) -> list[float]:
    """The times between the frames of some seconds."""
    return [one / 1000 for one in page.evaluate(_FRAMES, 3_000)]


def late(times: list[float]) -> float:
    """The time between frames that 95 of 100 are shorter than."""
    return sorted(times)[int(0.95 * len(times))]


def medians(rounds: list[Opened]) -> Opened:
    """The median of each part."""
    return {part: median(opened[part] for opened in rounds) for part in rounds[0]}
