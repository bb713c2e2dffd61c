"""The console under control: pause, resume, mend, one step, lists, live logs, and the ledger."""

from __future__ import annotations

import contextlib
import functools
import http.server
import re
import threading
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote, unquote

import pytest
from playwright.sync_api import Page, expect

from tests.console.conftest import stay_out
from tests.helpers import ROOT, ServiceProgram, eventually, service
from tests.long_loom import lines

pytestmark = [pytest.mark.slow, pytest.mark.browser]

LOOM = "tests.long_loom:loom"


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with a worker of two processes."""
    with service(tmp_path_factory.mktemp("data"), "--load", LOOM, "--processes", "2") as found:
        yield found


def press(page: Page, *names: str) -> None:
    """Press buttons, one after another."""
    for name in names:
        page.get_by_role("button", name=name, exact=True).first.click()


def test_a_run_is_paused_and_goes_on(program: ServiceProgram, page: Page, marks: Path) -> None:
    """With how far it is, who paused it and why."""
    run = program.client().start("walk", folder=str(marks), count=4_000, pause=0.01)
    page.goto(f"{program.url}/runs/{run.number}?step=go")
    drawer = page.get_by_test_id("step")
    expect(drawer.get_by_test_id("step-progress")).to_contain_text("of 4,000")
    expect(drawer.get_by_test_id("step-progress")).to_contain_text("a second")
    press(page, "Pause")
    page.get_by_label("Reason").fill("low tide")
    press(page, f"Pause run {run.number}")
    said = re.compile(r"is paused by console:\S+: low tide")
    expect(page.get_by_role("status").get_by_text(said)).to_be_visible()
    expect(drawer.get_by_test_id("step-progress")).to_contain_text("stopped at")
    press(page, "Resume", f"Resume run {run.number}")
    expect(drawer.locator("[data-state=running]")).to_be_visible()
    page.get_by_role("button", name="Who did what").click()
    expect(page.get_by_role("cell", name="low tide")).to_be_visible()
    run.cancel()


def test_a_step_is_edited_mended_and_watched(
    program: ServiceProgram, page: Page, marks: Path
) -> None:
    """Its input is changed by hand, the run mended, and its round is shown."""
    run = program.client().start("walk", folder=str(marks), count=4_000, pause=0.01)
    eventually(lambda: lines(str(marks), "walked"))
    page.goto(f"{program.url}/runs/{run.number}?step=go")
    actions = page.get_by_test_id("step-actions")
    actions.get_by_role("button", name="Cancel").click()
    press(page, "Cancel go")
    expect(page.get_by_test_id("step").locator("[data-state=cancelled]")).to_be_visible()
    actions.get_by_role("button", name="Edit").click()
    page.get_by_role("textbox", name="Input").fill(
        f'{{"folder": "{marks}", "count": 7, "every": 5, "pause": 0}}'
    )
    press(page, "Edit go")
    expect(page.get_by_role("button", name="Edit go")).to_be_hidden()
    press(page, "Mend", f"Mend run {run.number}")
    expect(page.get_by_text("round 2").first).to_be_visible()
    expect(page.get_by_test_id("step").locator("[data-state=done]").first).to_be_visible()

    assert run.wait(60) == 7


def test_an_output_is_given_by_hand(program: ServiceProgram, page: Page, marks: Path) -> None:
    """What does not fit is said, and nothing happens."""
    run = program.client().start("walk", folder=str(marks), count=4_000, pause=0.01)
    eventually(lambda: lines(str(marks), "walked"))
    run.pause()
    eventually(lambda: run.refresh().state == "paused")
    page.goto(f"{program.url}/runs/{run.number}?step=go")
    page.get_by_test_id("step-actions").get_by_role("button", name="Give output").click()
    page.get_by_role("textbox", name="Output").fill('"text"')
    press(page, "Give output go")
    expect(page.get_by_text("does not fit what task long/walk-task returns")).to_be_visible()
    page.get_by_role("textbox", name="Output").fill("12")
    press(page, "Give output go")
    expect(page.get_by_text("Its output was given by hand.")).to_be_visible()

    assert run.wait(60) == 12


def test_a_log_comes_line_by_line(program: ServiceProgram, page: Page, marks: Path) -> None:
    """While the step runs, without a reload; and what was published and done outside is shown."""
    run = program.client().start("mail-all", folder=str(marks), count=12, pause=0.05)
    page.goto(f"{program.url}/runs/{run.number}?step=go")
    page.get_by_role("button", name="Done outside").click()
    expect(page.get_by_role("cell", name="letter 11", exact=True)).to_be_visible()
    flood = program.client().start("flood", folder=str(marks))
    page.goto(f"{program.url}/runs/{flood.number}?step=go")
    log = page.get_by_role("log", name="log of go#1")
    expect(log).to_contain_text("no play")
    flood.cancel()


def test_all_runs_of_a_list_are_cancelled(program: ServiceProgram, page: Page, marks: Path) -> None:
    """How many they are is asked first."""
    client = program.client()
    runs = [client.start("walk-io", folder=str(marks), count=9_999, pause=0.01) for _ in range(3)]
    eventually(lambda: all(run.refresh().state == "running" for run in runs))
    page.goto(f"{program.url}/runs?state=running&workflow=long%2Fwalk-io")
    press(page, "Act on all of these", "How many are they?", "Yes, cancel 3 runs")
    expect(page.get_by_text("3 of 3 told to cancel.")).to_be_visible()
    eventually(lambda: all(run.refresh().state == "cancelled" for run in runs))


def test_a_run_is_started_anew_with_other_params(
    program: ServiceProgram, page: Page, marks: Path
) -> None:
    """The params stand there to be changed; the new run is shown."""
    run = program.client().start("walk", folder=str(marks), count=2)
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}")
    press(page, "Rerun")
    page.get_by_role("textbox", name="Params").fill(
        f'{{"folder": "{marks}", "count": 3, "every": 5, "pause": 0}}'
    )
    press(page, "Start it")
    expect(page.get_by_role("heading", name=f"Run {run.number + 1}")).to_be_visible()


@contextlib.contextmanager
def another_site() -> Iterator[str]:
    """The examples of the docs, served as pages of another site."""
    quiet = functools.partial(_Quiet, directory=str(ROOT / "docs" / "examples"))
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), quiet) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{server.server_port}"
        server.shutdown()


def test_the_example_page_follows_a_run_through_a_break(
    program: ServiceProgram, page: Page, marks: Path
) -> None:
    """From another site, with a link and our script; cut off, it catches up."""
    with another_site() as site:
        noisy = program.client().start("noisy", folder=str(marks))
        link = quote(noisy.link("1h").address, safe="")
        asked: list[str] = []
        page.on("request", lambda one: asked.append(one.url))
        page.goto(f"{site}/follow.html?link={link}")
        expect(page.locator("#state")).to_have_text("done")
        expect(page.locator("#news li")).to_have_count(2)
        page.context.set_offline(True)
        page.context.set_offline(False)
        expect(page.locator("#news li")).to_have_count(2)
        secret = unquote(link).partition("#")[2]
        assert [url for url in asked if url.startswith(program.url) and secret in url] == []


def test_a_text_of_200_pieces_grows_in_a_page_of_ones_own(
    program: ServiceProgram, page: Page, marks: Path
) -> None:
    """Each piece once, in order; a second attempt begins the text anew."""
    with another_site() as site:
        run = program.client().start("grows", folder=str(marks))
        link = quote(run.link("1h").address, safe="")
        page.goto(f"{site}/follow.html?link={link}")
        expect(page.locator("#letter")).to_contain_text("first attempt 0 1 2")
        (marks / "fail").touch()
        run.wait(60)
        whole = " ".join(str(number) for number in range(200))
        expect(page.locator("#letter")).to_have_text(whole)


def test_a_link_is_a_page_for_people(program: ServiceProgram, page: Page, marks: Path) -> None:
    """Without a sign-in: the state, what was published, with details the steps; until it ends."""
    stay_out(page.context, program.url)
    run = program.client().start("noisy", folder=str(marks))
    plain, details = run.link("1h"), run.link("1h", details=True)
    run.wait(60)
    page.goto(plain.address)
    expect(page.get_by_role("heading", name=f"Run {run.number}")).to_contain_text("done")
    expect(page.get_by_role("heading", name="Published")).to_be_visible()
    expect(page.get_by_role("heading", name="Steps")).to_have_count(0)
    page.goto("about:blank")
    page.goto(details.address)
    expect(page.get_by_role("heading", name="Steps")).to_be_visible()
    run.revoke_link(details.id)
    expect(page.get_by_text("this link has ended")).to_be_visible()
    page.goto("about:blank")
    page.goto(f"{program.url}/link#1.nothing")
    expect(page.get_by_text("was not made by this service")).to_be_visible()


class _Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, format: str, *args: object) -> None:
        """Say nothing."""
