"""Take the pictures in docs/screenshots from the running demo. Needs tmux and Chromium.

`make pictures`. Terminal pictures are what tmux shows, drawn by Chromium.
"""

from __future__ import annotations

import base64
import contextlib
import html
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from urllib.parse import urlencode

from playwright.sync_api import Browser, Page, sync_playwright
from rich.console import Console
from rich.terminal_theme import MONOKAI, TerminalTheme
from rich.text import Text

from yarnloom import Client, Run
from yarnloom.client import Request
from yarnloom.client.http_requests import sign_in_request
from yarnloom.errors import Conflict

ROOT = Path(__file__).parent.parent
TARGET = ROOT / "docs" / "screenshots"
CONTACTS = ROOT / "src" / "yarnloom" / "demo"
COMMAND = f"{sys.executable} -m yarnloom"
SIZE = {"width": 1280, "height": 800}
ARGUMENTS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-sync"]


# Slate ground and wool ink, and the dyes that the command uses.
SLATE = TerminalTheme((32, 38, 43), (233, 228, 217), [MONOKAI.ansi_colors[n] for n in range(8)])


class Terminal:
    """A tmux window in which commands are typed."""

    def __init__(self, name: str, folder: Path, columns: int = 118, rows: int = 36) -> None:
        self.name = name
        size = ["-x", str(columns), "-y", str(rows)]
        subprocess.run(["tmux", "new-session", "-d", "-s", name, *size, "-c", folder], check=True)
        self.type("PS1='$ '; alias yarnloom=" + shlex.quote(COMMAND))
        self.clear()

    def type(self, line: str) -> None:
        """Type a line."""
        subprocess.run(["tmux", "send-keys", "-t", self.name, line, "Enter"], check=True)

    def clear(self) -> None:
        """Clear the screen; what is typed before that is done would stand there twice."""
        self.type("clear")
        self.wait_for(r"\A\$\s*\Z")

    def screen(self, *, colours: bool = False) -> str:
        """What is on the screen."""
        command = ["tmux", "capture-pane", "-t", self.name, "-p", *(["-e"] if colours else [])]
        return subprocess.run(command, check=True, capture_output=True, text=True).stdout

    def wait_for(self, pattern: str) -> re.Match[str]:
        """The first match on the screen."""
        until, pause = time.monotonic() + 90, threading.Event()
        while not (found := re.search(pattern, self.screen())):
            assert time.monotonic() < until, self.screen()
            pause.wait(0.1)
        return found

    def draw(self, page: Page, path: Path) -> None:
        """A picture of the screen."""
        console = Console(record=True, width=118, file=open("/dev/null", "w"))  # noqa: SIM115
        text = self.screen(colours=True).replace(str(Path.home()), "~").rstrip()
        console.print(Text.from_ansi(text))
        body = console.export_html(inline_styles=True, code_format="<pre>{code}</pre>", theme=SLATE)
        page.set_viewport_size(SIZE)
        page.set_content(
            "<style>body{background:#20262b;color:#e9e4d9;margin:22px}"
            "pre{font:15.5px/1.42 'JetBrains Mono','DejaVu Sans Mono',monospace}</style>" + body
        )
        page.screenshot(path=path)

    def close(self) -> None:
        """End it, and what runs in it."""
        subprocess.run(["tmux", "send-keys", "-t", self.name, "C-c", ""], check=False)
        threading.Event().wait(3)
        subprocess.run(["tmux", "kill-session", "-t", self.name], check=False)


def done_harbours(run: int) -> Request:
    """The request for the harbours of a run that are done."""
    return Request("GET", f"/runs/{run}/items", query={"address": "harbours", "state": "done"})


def almanac(client: Client) -> Run:
    """A run that makes the whole almanac."""
    return client.start("yearly-almanac", contacts=client.upload(CONTACTS / "contacts.csv"))


def reasons(page: Page, url: str, commands: Terminal, client: Client) -> None:
    """The pools, and what `why` says, in the middle of a run."""
    run = almanac(client)
    client.change_pool("gauge-link", limit=2, reason="one line is down")
    while client.pools()[0].waiting < 3:
        threading.Event().wait(0.1)
    page.goto(f"{url}/pools")
    page.get_by_text("limit set by hand").wait_for()
    page.get_by_role("button", name="gauge-link").click()
    page.locator("[data-testid=pool] canvas").wait_for()
    page.wait_for_timeout(700)
    page.screenshot(path=TARGET / "pools.png")
    commands.clear()
    commands.type(f"yarnloom pool gauge-link; yarnloom why {run.number}")
    commands.wait_for("bind\n *waits for harbours")
    commands.draw(page, TARGET / "why.png")
    client.change_pool("gauge-link", as_declared=True)
    run.wait(120)
    commands.clear()


def paused_in_a_fit(client: Client) -> Run:
    """A run whose fit is paused; it is over in a moment, so more than one may be needed."""
    while True:
        run = client.start("harbour-tides", harbour="brackwater", year=2029)
        while (run.step("fit").data["progress"] or {"done": 0})["done"] in (None, 0, 1):
            threading.Event().wait(0.01)
        with contextlib.suppress(Conflict):
            run.step("fit").pause("to look at the residuals")
        while (state := run.step("fit").state) not in ("paused", "done"):
            threading.Event().wait(0.02)
        if state == "paused":
            return run


def control(page: Page, commands: Terminal, client: Client) -> None:
    """A run that is paused in the middle of a fit, and what can be done with it."""
    run = paused_in_a_fit(client)
    commands.clear()
    number = run.number
    commands.type(
        f"yarnloom why {number}; yarnloom step {number}/fit resume; yarnloom mend 1 "
        "--reason 'the gauge is repaired'; yarnloom watch 1; "
        "yarnloom ledger 1 | tail -4; yarnloom commands --limit 4"
    )
    commands.wait_for("by hand|commands")
    run.wait(90)
    client.run(1).wait(120)
    threading.Event().wait(2)
    commands.draw(page, TARGET / "control.png")
    commands.clear()


def data(page: Page, url: str, commands: Terminal, client: Client) -> None:
    """Files: the start form that refuses rows, the page with what is in one, and the command."""
    page.set_viewport_size(SIZE)
    page.emulate_media(color_scheme="light")
    page.goto(f"{url}/workflows/tide-almanac/yearly-almanac?start")
    draft = CONTACTS / "contacts-draft.csv"
    page.locator("input[type=file]").first.set_input_files(draft)
    page.get_by_text("kept, ").wait_for()
    page.get_by_role("button", name="Start run").click()
    page.get_by_text("line 4, column").first.wait_for()
    page.screenshot(path=TARGET / "start.png")
    page.goto(f"{url}/files")
    page.get_by_role("button", name="brackwater.svg").first.click()
    page.get_by_role("img", name="brackwater.svg").wait_for()
    page.wait_for_timeout(700)
    page.screenshot(path=TARGET / "files.png")
    commands.clear()
    commands.type(
        f"yarnloom start yearly-almanac --file contacts={draft.name}; yarnloom files --limit 8; "
        "yarnloom files brackwater-2027.csv; "
        "yarnloom export 1/harbours --state failed --as json-lines"
    )
    commands.wait_for("gauge at fogwick|harbours")
    threading.Event().wait(4)
    commands.draw(page, TARGET / "data.png")
    commands.clear()


def by_clock(page: Page, url: str, commands: Terminal, client: Client) -> None:
    """Schedules: the page with one that is being made, and the commands."""
    settings = {"params": {"order": 7, "harbour": "saltmere"}, "note": "a copy for the desk"}
    client.make_schedule("print-copies", name="desk-copy", cron="0 7 * * 1-5", **settings)
    client.start_schedule("desk-copy").wait(60)
    page.set_viewport_size(SIZE)
    page.goto(f"{url}/schedules")
    page.get_by_role("button", name="Make a schedule…").click()
    page.get_by_label("Name").fill("summer-time")
    page.get_by_label("Cron").fill("30 1 * 3 0")
    page.get_by_label("Zone").fill("Europe/Lisbon")
    page.get_by_role("listitem").first.wait_for()
    page.wait_for_timeout(700)
    page.screenshot(path=TARGET / "schedules.png")
    commands.clear()
    scheduled = next(client.runs(limit=1)).number + 1
    commands.type(
        "yarnloom schedules; yarnloom schedule nightly-waters --resume | head -8; "
        "yarnloom start harbour-tides -p harbour=saltmere --after 2h --start-by 23:59; "
        f"yarnloom why {scheduled} | head -3; yarnloom relay yarnloom-demo/orders.db --list; "
        "yarnloom worker --load yarnloom.demo.almanac:loom --detach --name night; "
        "yarnloom worker status; yarnloom worker stop night"
    )
    commands.wait_for("night has ended")
    commands.draw(page, TARGET / "by-clock.png")
    commands.clear()


def pages(page: Page, url: str, client: Client) -> None:
    """The console's pages."""

    def show(path: str, name: str, *, dark: bool = False, wait: str) -> None:
        page.set_viewport_size(SIZE)
        page.emulate_media(color_scheme="dark" if dark else "light")
        page.goto(url + path)
        page.wait_for_selector(wait)
        page.wait_for_timeout(700)
        page.screenshot(path=TARGET / name)

    client.start("harbour-tides", harbour="saltmere", year=2028).wait(90)
    cancelled = client.start("harbour-tides", harbour="gullhaven")
    cancelled.cancel("the gauge is being painted")
    running = almanac(client)
    while len(client.call(done_harbours(running.number))["items"]) < 2:
        threading.Event().wait(0.1)
    show(
        f"/runs/{running.number}",
        "run.png",
        wait=".react-flow__node [data-dye=running] >> visible=true",
    )
    show("/runs", "runs.png", wait="tbody tr")
    show("/", "overview.png", dark=True, wait="canvas")
    output = running.wait(120)
    show(f"/runs/{running.number}?view=time", "time.png", wait="[aria-label='time by part']")
    show(f"/runs/{running.number}?each=harbours", "items.png", wait="[data-testid=items] tbody tr")
    at = "harbours[brackwater]"
    place = urlencode({"at": at, "step": f"{at}/fit"})
    show(f"/runs/{running.number}?{place}", "step.png", dark=True, wait="[aria-label^='log of']")
    page.emulate_media(color_scheme="light")
    page.set_viewport_size({"width": 1000, "height": 700})
    page.goto(output["online"]["url"])
    page.wait_for_timeout(500)
    page.screenshot(path=TARGET / "almanac.png")
    graph = subprocess.run(
        [*shlex.split(COMMAND), "graph", str(running.number), "--as", "svg", "--url", url],
        check=True,
        capture_output=True,
        text=True,
    ).stdout
    page.set_viewport_size({"width": 1900, "height": 500})
    page.set_content(f"<style>body{{margin:0}}</style>{graph}")
    page.locator("svg").screenshot(path=TARGET / "graph.png")


def access(browser: Browser, url: str, client: Client) -> None:
    """Signing in, tokens, a refused action and the page of a link, as four tiles of one picture."""
    viewer = client.add_token("harbour-desk", ["view"]).token
    client.add_token("night-import", ["operate"], workflows=["tide-almanac/*"], lasts="7d")
    client.add_token("tug", ["publish", "work"])
    shots: list[bytes] = []

    def keep(page: Page) -> None:
        page.wait_for_timeout(700)
        shots.append(page.screenshot())

    page = browser.new_page(viewport=SIZE)
    page.goto(url)
    page.get_by_role("heading", name="Sign in").wait_for()
    keep(page)
    page.get_by_label("Or give a token").fill(viewer)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_text("signed in as").wait_for()
    run = client.start("harbour-tides", harbour="saltmere", year=2031)
    page.goto(f"{url}/runs/{run.number}")
    page.get_by_role("button", name="Cancel run").click()
    page.get_by_role("button", name=f"Cancel run {run.number}").click()
    page.get_by_text("takes a token that may").wait_for()
    refused = page.screenshot()
    page.get_by_role("button", name="Sign out").click()
    page.goto("about:blank")
    page.goto(client.call(sign_in_request("/tokens"))["address"])
    page.get_by_text("night-import").wait_for()
    keep(page)
    shots.append(refused)
    page.goto("about:blank")
    page.goto(run.link(details=True).address)
    page.get_by_role("heading", name="Steps").wait_for()
    keep(page)
    tiles = "".join(
        f'<img src="data:image/png;base64,{base64.b64encode(shot).decode()}">' for shot in shots
    )
    page.goto("about:blank")
    page.set_content(
        "<style>body{margin:0;background:#8a8a86;display:grid;gap:8px;"
        f"grid-template-columns:1fr 1fr}}img{{width:100%}}</style>{tiles}"
    )
    page.set_viewport_size({"width": 1280, "height": 800})
    page.wait_for_timeout(300)
    page.screenshot(path=TARGET / "access.png")
    page.close()


def main() -> None:
    """Take them all."""
    TARGET.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        chromium = shutil.which("chromium") or "/usr/bin/chromium"
        browser = playwright.chromium.launch(executable_path=chromium, args=ARGUMENTS)
        page = browser.new_page(viewport=SIZE)
        demo = Terminal("yarnloom-pictures", Path(folder))
        demo.type("yarnloom demo --port 8479")
        url = demo.wait_for(r"The console: (http://[^/\s]+)")[1]
        demo.wait_for("Ctrl-C ends it")
        demo.draw(page, TARGET / "demo.png")
        shutil.copy(CONTACTS / "contacts-draft.csv", folder)
        commands = Terminal("yarnloom-commands", Path(folder))
        commands.type(f"export YARNLOOM_URL={html.escape(url)}; clear")
        with Client(url, who="pictures") as client:
            page.goto(client.call(sign_in_request("/"))["address"])
            page.get_by_text("signed in as").wait_for()
            data(page, url, commands, client)
            reasons(page, url, commands, client)
            control(page, commands, client)
            by_clock(page, url, commands, client)
            pages(page, url, client)
            access(browser, url, client)
        commands.type("yarnloom runs; yarnloom show 1; yarnloom graph '1/harbours[saltmere]'")
        commands.wait_for("extremes .*done")
        commands.draw(page, TARGET / "commands.png")
        commands.close()
        demo.close()
        browser.close()


if __name__ == "__main__":
    main()
